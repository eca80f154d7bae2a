import { Button, PasswordInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import "./sign-in.css";
import { Field } from "../../parts/Field";
import { dayTime, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

/** Where a link of an invitation or for a forgotten password leads: choose a password, and one is in. */
export function Join() {
  // Behind the # it is never sent with an address, and so in no log.
  const link = window.location.hash.slice(1);
  const [password, setPassword] = useState("");
  const { error, attempt } = useAttempt();
  const found = useQuery({
    queryKey: ["link", link],
    queryFn: () => get(api.POST("/api/v1/links/look", { body: { link } })),
    retry: false,
  });
  const send = async (event: FormEvent) => {
    event.preventDefault();
    await attempt(async () => {
      await api.POST("/api/v1/links/use", { body: { link, password } });
      window.location.assign("/");
    });
  };
  return (
    <main className="sign-in">
      <h1>Watch Tide</h1>
      {found.isPending && <Waiting what="Looking the link up" />}
      {found.isError && (
        <>
          <Trouble error={found.error} />
          <p>
            <a href="/">Sign in</a>
          </p>
        </>
      )}
      {found.data && (
        <form onSubmit={send}>
          <p className="soft tight">
            Choose {found.data.purpose === "invitation" ? "a" : "a new"} password for{" "}
            <strong>{found.data.name}</strong>. The link can be used once, until{" "}
            {dayTime(found.data.ends_at, fleetZone())} {zoneName(found.data.ends_at, fleetZone())}.
          </p>
          <Field type="hidden" name="username" autoComplete="username" value={found.data.name} readOnly />
          <PasswordInput
            label="Password"
            description="12 characters or more"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete="new-password"
            minLength={12}
            required
          />
          {error !== null && <Trouble error={error} />}
          <Button type="submit" variant="filled" size="sm">
            Set it and sign in
          </Button>
        </form>
      )}
    </main>
  );
}
