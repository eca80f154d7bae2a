import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { Field } from "../../parts/Field";

export function SignIn({ isDemo }: { isDemo: boolean }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<unknown>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setError(null);
    try {
      await api.POST("/api/v1/session", { body: { name, password } });
      await client.invalidateQueries({ queryKey: ["session"] });
    } catch (problem) {
      setError(problem);
      setPassword("");
    }
  };
  return (
    <main style={{ maxWidth: 340, margin: "14vh auto 0", padding: 20 }}>
      <h1 style={{ fontSize: 34 }}>Watch Tide</h1>
      <p className="soft">
        Which streams stopped behaving like themselves, and how far the answer can be trusted.
      </p>
      <form onSubmit={submit} style={{ display: "grid", gap: 14, marginTop: 24 }}>
        <label>
          Name
          <Field
            className="field"
            style={{ width: "100%" }}
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoComplete="username"
            required
          />
        </label>
        <label>
          Password
          <Field
            className="field"
            style={{ width: "100%" }}
            type="password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="current-password"
            required
          />
        </label>
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled">
          Sign in
        </Button>
      </form>
      {isDemo && <p className="soft small">This is the demo: sign in as demo with the password demo.</p>}
    </main>
  );
}
