import { Button, Checkbox, NumberInput, Table, TextInput, VisuallyHidden } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, list, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { FormRow } from "../../parts/FormRow";
import { sure } from "../../parts/sure";
import { day, dayTime, plural, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Section } from "./Section";
import { useChange } from "./useChange";

type Scope = Schema["TokenRequest"]["scopes"][number];
type Token = Schema["Token"];
const SCOPES: Record<Scope, string> = { push: "push samples", read: "read", write: "change things" };
const USUAL_DAYS = 90;

/** Keys for scripts and senders; a new one's text is shown once. */
export function Tokens() {
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => list(api.GET("/api/v1/tokens")) });
  const { error, change } = useChange("tokens");
  const [fresh, setFresh] = useState<{ name: string; text: string } | null>(null);
  const rows = tokens.data ?? [];
  const inUse = rows.filter((t) => !t.revoked_at).length;
  const revoke = (id: number) =>
    change(() => api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } }));
  return (
    <Section
      title="Tokens"
      sum={`${inUse ? `${plural(inUse, "token")} in use; ` : ""}a token is shown once, when it is made`}
      isPending={tokens.isPending}
      error={error ?? tokens.error}
    >
      <p className="soft">
        Senders push OpenTelemetry metrics to <code>/v1/metrics</code> and JSON Lines to{" "}
        <code>/api/v1/push</code>, with the header <code>Authorization: Bearer …</code>. The same batch sent
        twice changes nothing.
      </p>
      {fresh && (
        <p role="status">
          The token <strong>{fresh.name}</strong>, shown this once:{" "}
          <span className="secret">{fresh.text}</span>
        </p>
      )}
      {rows.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>name</Table.Th>
              <Table.Th>begins with</Table.Th>
              <Table.Th>may</Table.Th>
              <Table.Th>of</Table.Th>
              <Table.Th>last used, {zoneName(Date.now(), fleetZone())}</Table.Th>
              <Table.Th>ends</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">revoke</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((t) => (
              <TokenRow
                key={t.id}
                token={t}
                onRevoke={() =>
                  sure("Revoke", t.name, "Whatever sends or reads with it is refused from now on.", () =>
                    revoke(t.id),
                  )
                }
              />
            ))}
          </Table.Tbody>
        </Table>
      )}
      <NewToken onMade={setFresh} />
    </Section>
  );
}

function TokenRow({ token: t, onRevoke }: { token: Token; onRevoke: () => void }) {
  return (
    <Table.Tr data-gone={t.revoked_at ? true : undefined}>
      <Table.Td>
        <strong>{t.name}</strong>
      </Table.Td>
      <Table.Td>
        <code>{t.hint}…</code>
      </Table.Td>
      <Table.Td>{t.scopes.map((s) => SCOPES[s]).join(", ")}</Table.Td>
      <Table.Td className="soft">{t.owner}</Table.Td>
      <Table.Td className="soft nowrap">
        {t.last_used_at ? dayTime(t.last_used_at, fleetZone()) : "never"}
      </Table.Td>
      <Table.Td className="soft nowrap">{t.expires_at ? day(t.expires_at, fleetZone()) : "never"}</Table.Td>
      <Table.Td className="right nowrap">
        {t.revoked_at ? (
          <span className="soft">revoked</span>
        ) : (
          <Button aria-label={`Revoke ${t.name}`} onClick={onRevoke}>
            Revoke
          </Button>
        )}
      </Table.Td>
    </Table.Tr>
  );
}

function NewToken({ onMade }: { onMade: (made: { name: string; text: string }) => void }) {
  const { error, isBusy, change } = useChange("tokens");
  const form = useForm({
    initialValues: { name: "", scopes: ["push"] as Scope[], days: USUAL_DAYS },
    // None, or no number, is for ever.
    transformValues: (v) => ({ ...v, days: Number(v.days) || null }),
  });
  const make = form.onSubmit((body) =>
    change(async () => {
      const made = await get(api.POST("/api/v1/tokens", { body }));
      onMade({ name: made.name, text: made.text ?? "" });
      form.setFieldValue("name", "");
    }),
  );
  return (
    <FormRow onSubmit={make} aria-label="New token">
      <TextInput
        label="Name of a new token"
        name="name"
        {...form.getInputProps("name")}
        placeholder="night loader"
        maxLength={120}
        required
        withAsterisk={false}
      />
      <Checkbox.Group label="It may" {...form.getInputProps("scopes")}>
        {(Object.keys(SCOPES) as Scope[]).map((s) => (
          <Checkbox key={s} value={s} label={SCOPES[s]} size="xs" radius={0} />
        ))}
      </Checkbox.Group>
      <NumberInput
        label="Ends after, days (0: never)"
        {...form.getInputProps("days")}
        min={0}
        max={3650}
        allowDecimal={false}
        hideControls
        w={150}
      />
      <Button type="submit" disabled={isBusy || form.values.scopes.length === 0}>
        Make a token
      </Button>
      {error !== null && <Trouble error={error} />}
    </FormRow>
  );
}
