import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import "./sign-in.css";

export function SignIn({ isDemo }: { isDemo: boolean }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const { error, attempt } = useAttempt();
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const isIn = await attempt(async () => {
      await api.POST("/api/v1/session", { body: { name, password } });
      await client.invalidateQueries({ queryKey: ["session"] });
    });
    if (!isIn) setPassword("");
  };
  return (
    <main className="sign-in">
      <h1>Watch Tide</h1>
      <Water />
      <p className="soft">
        Which streams stopped behaving like themselves, and how far the answer can be trusted.
      </p>
      <form onSubmit={submit}>
        <label>
          Name
          <Field
            className="field wide"
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoComplete="username"
            required
          />
        </label>
        <label>
          Password
          <Field
            className="field wide"
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

const BINS = 60;
const [RISE, FALL] = [41, 19];

/** A ribbon as the tide table draws them: calm water, one rise above and one fall below. */
function Water() {
  const size = (i: number, at: number) => Math.max(0, 1 - ((i - at) / 3) ** 2);
  return (
    <svg viewBox={`0 0 ${BINS * 5} 18`} className="water" aria-hidden="true">
      <rect width={BINS * 5} height="18" fill="var(--wash)" />
      {Array.from({ length: BINS }, (_, i) => ({ x: i * 5, up: size(i, RISE), down: size(i, FALL) })).map(
        ({ x, up, down }) => (
          <g key={x}>
            {up > 0 && (
              <rect x={x} width="5" height={6 + 12 * up} fill="var(--above)" opacity={0.2 + 0.8 * up} />
            )}
            {down > 0 && (
              <rect
                x={x}
                y={12 - 12 * down}
                width="5"
                height={6 + 12 * down}
                fill="var(--below)"
                opacity={0.2 + 0.8 * down}
              />
            )}
          </g>
        ),
      )}
    </svg>
  );
}
