import { Button, PasswordInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { FormColumn } from "../../parts/FormColumn";
import { dayTime, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Door } from "./Door";

/** Where a link of an invitation or for a forgotten password leads: choose a password, and one is in. */
export default function Join() {
  // Behind the # it is never sent with an address, and so in no log.
  const link = window.location.hash.slice(1);
  const form = useForm({ initialValues: { password: "" } });
  const { error, attempt } = useAttempt();
  const found = useQuery({
    queryKey: ["link", link],
    queryFn: () => get(api.POST("/api/v1/links/look", { body: { link } })),
    retry: false,
  });
  const send = form.onSubmit(({ password }) =>
    attempt(async () => {
      await api.POST("/api/v1/links/use", { body: { link, password } });
      window.location.assign("/");
    }),
  );
  return (
    <Door>
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
        <FormColumn onSubmit={send} mt={24}>
          <p className="soft tight">
            Choose {found.data.purpose === "invitation" ? "a" : "a new"} password for{" "}
            <strong>{found.data.name}</strong>. The link can be used once, until{" "}
            {dayTime(found.data.ends_at, fleetZone())} {zoneName(found.data.ends_at, fleetZone())}.
          </p>
          <Field type="hidden" name="username" autoComplete="username" value={found.data.name} readOnly />
          <PasswordInput
            label="Password"
            description="12 characters or more"
            {...form.getInputProps("password")}
            autoComplete="new-password"
            minLength={12}
            required
          />
          {error !== null && <Trouble error={error} />}
          <Button type="submit" variant="filled" size="sm">
            Set it and sign in
          </Button>
        </FormColumn>
      )}
    </Door>
  );
}
