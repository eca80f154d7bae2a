import { Button } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useQueryClient } from "@tanstack/react-query";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { FormColumn } from "../../parts/FormColumn";
import { Door } from "./Door";

export default function SignIn({ isDemo }: { isDemo: boolean }) {
  const client = useQueryClient();
  const form = useForm({ initialValues: { name: "", password: "" } });
  const { error, attempt } = useAttempt();
  const submit = form.onSubmit(async (body) => {
    const isIn = await attempt(async () => {
      await api.POST("/api/v1/session", { body });
      await client.invalidateQueries({ queryKey: ["session"] });
    });
    if (!isIn) form.setFieldValue("password", "");
  });
  return (
    <Door>
      <Water />
      <p className="soft">
        Which streams stopped behaving like themselves, and how far the answer can be trusted.
      </p>
      <FormColumn onSubmit={submit} mt={24}>
        <label>
          Name
          <Field w="100%" {...form.getInputProps("name")} autoComplete="username" required />
        </label>
        <label>
          Password
          <Field
            w="100%"
            type="password"
            {...form.getInputProps("password")}
            autoComplete="current-password"
            required
          />
        </label>
        {error !== null && <Trouble error={error} />}
        <Button type="submit" variant="filled">
          Sign in
        </Button>
      </FormColumn>
      {isDemo && <p className="soft small">This is the demo: sign in as demo with the password demo.</p>}
    </Door>
  );
}

const BINS = 60;
const [RISE, FALL] = [41, 19];

/** A ribbon as the tide table draws them: calm water, one rise above and one fall below. */
function Water() {
  const size = (i: number, at: number) => Math.max(0, 1 - ((i - at) / 3) ** 2);
  return (
    <svg viewBox={`0 0 ${BINS * 5} 18`} width="100%" height="18" aria-hidden="true">
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
