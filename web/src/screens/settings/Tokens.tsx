import { Button, Checkbox, NumberInput, Table, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get, list, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
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
                <span className="visually-hidden">revoke</span>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((t) => (
              <TokenRow key={t.id} token={t} onRevoke={() => revoke(t.id)} />
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
      <Table.Td className="acts-cell">
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
  const [name, setName] = useState("");
  const [scopes, setScopes] = useState<string[]>(["push"]);
  const [days, setDays] = useState<number | string>(USUAL_DAYS);
  const make = (event: FormEvent) => {
    event.preventDefault();
    void change(async () => {
      const body = { name, scopes: scopes as Scope[], days: Number(days) > 0 ? Number(days) : null };
      const made = await get(api.POST("/api/v1/tokens", { body }));
      onMade({ name: made.name, text: made.text ?? "" });
      setName("");
    });
  };
  return (
    <form className="form" onSubmit={make} aria-label="New token">
      <TextInput
        label="Name of a new token"
        name="name"
        value={name}
        onChange={(e) => setName(e.currentTarget.value)}
        placeholder="night loader"
        maxLength={120}
        required
        withAsterisk={false}
      />
      <Checkbox.Group label="It may" value={scopes} onChange={setScopes}>
        {(Object.keys(SCOPES) as Scope[]).map((s) => (
          <Checkbox key={s} value={s} label={SCOPES[s]} size="xs" radius={0} />
        ))}
      </Checkbox.Group>
      <NumberInput
        label="Ends after, days (0: never)"
        value={days}
        onChange={setDays}
        min={0}
        max={3650}
        allowDecimal={false}
        hideControls
        w={150}
      />
      <Button type="submit" disabled={isBusy || scopes.length === 0}>
        Make a token
      </Button>
      {error !== null && <Trouble error={error} />}
    </form>
  );
}
