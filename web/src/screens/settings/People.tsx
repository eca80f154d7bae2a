import { Button, Group, Table, VisuallyHidden } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, list, type Schema } from "../../api/client";
import { WordSelect } from "../../parts/WordSelect";
import { dayTime, plural, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Invite } from "./Invite";
import { LinkShown, type MadeLink } from "./LinkShown";
import { Section } from "./Section";
import { useChange } from "./useChange";

type Person = Schema["Person"];
export const ROLES = ["viewer", "analyst", "admin"] as const;

/** Accounts: who may do what, when they were last here, and what waits for them. */
export function People({ own }: { own: string }) {
  const people = useQuery({ queryKey: ["people"], queryFn: () => list(api.GET("/api/v1/people")) });
  const { error, change } = useChange("people");
  const [isInviting, setInviting] = useState(false);
  const [made, setMade] = useState<MadeLink | null>(null);
  const alter = (id: number, body: Schema["PatchedPersonChangeRequest"]) =>
    change(() => api.PATCH("/api/v1/people/{id}", { params: { path: { id } }, body }));
  const link = (id: number) =>
    change(async () =>
      setMade(await get(api.POST("/api/v1/people/{id}/link", { params: { path: { id } } }))),
    );
  const rows = people.data ?? [];
  return (
    <Section
      title="People"
      sum={summary(rows)}
      isPending={people.isPending}
      error={error ?? people.error}
      action={
        <Button variant="filled" onClick={() => setInviting(true)}>
          Invite somebody
        </Button>
      }
    >
      {rows.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>name</Table.Th>
              <Table.Th>role</Table.Th>
              <Table.Th>signs in as</Table.Th>
              <Table.Th>last here, {zoneName(Date.now(), fleetZone())}</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">what can be done</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((p) => (
              <Table.Tr key={p.id} data-gone={p.state === "disabled" || undefined}>
                <Table.Td>
                  <strong>{p.full_name || p.name}</strong>
                </Table.Td>
                <Table.Td>
                  {p.name === own || p.state === "disabled" ? (
                    p.role
                  ) : (
                    <WordSelect
                      label={`Role of ${p.name}`}
                      value={p.role}
                      choices={ROLES.map((r) => [r, r] as const)}
                      onChange={(role) => alter(p.id, { role })}
                    />
                  )}
                </Table.Td>
                <Table.Td ff="monospace" pr={16} className="nowrap">
                  {p.name}
                </Table.Td>
                <Table.Td className="soft">{whenHere(p, own)}</Table.Td>
                <Table.Td className="right nowrap">
                  {p.name !== own && <Acts person={p} onLink={link} onAlter={alter} />}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {isInviting && <Invite onDone={setMade} onClose={() => setInviting(false)} />}
      {made && <LinkShown made={made} onClose={() => setMade(null)} />}
    </Section>
  );
}

interface ActsProps {
  person: Person;
  onLink: (id: number) => void;
  onAlter: (id: number, body: { is_active: boolean }) => void;
}

function Acts({ person: p, onLink, onAlter }: ActsProps) {
  const isDisabled = p.state === "disabled";
  return (
    <Group component="span" gap="6px 18px" justify="flex-end">
      {!isDisabled && (
        <Button onClick={() => onLink(p.id)} aria-label={`New link for ${p.name}`}>
          {p.state === "invited" ? "New invitation" : "New password"}
        </Button>
      )}
      <Button
        onClick={() => onAlter(p.id, { is_active: isDisabled })}
        aria-label={`${isDisabled ? "Enable" : "Disable"} ${p.name}`}
      >
        {isDisabled ? "Enable" : "Disable"}
      </Button>
    </Group>
  );
}

function summary(rows: Person[]): string {
  const count = (test: (p: Person) => boolean) => rows.filter(test).length;
  const parts = [...ROLES]
    .reverse()
    .map((role) => [count((p) => p.role === role && p.state !== "disabled"), role] as const)
    .filter(([n]) => n > 0)
    .map(([n, role]) => plural(n, role));
  const invited = count((p) => p.state === "invited");
  const disabled = count((p) => p.state === "disabled");
  const more = [invited && `${invited} invited`, disabled && `${disabled} disabled`].filter(Boolean);
  return [parts.join(", "), more.join(", ")].filter(Boolean).join("; ");
}

function whenHere(p: Person, own: string): string {
  if (p.name === own) return "now; this is you";
  if (p.state === "disabled")
    return p.disabled_at ? `disabled ${dayTime(p.disabled_at, fleetZone())}` : "disabled";
  if (p.state === "invited") {
    if (!p.link_ends_at) return "invited; the link is over";
    const ends = p.link_ends_at;
    return ends < Date.now()
      ? "invited; the link is over"
      : `invited, link ends ${dayTime(ends, fleetZone())}`;
  }
  return p.last_seen_at ? dayTime(p.last_seen_at, fleetZone()) : "never";
}
