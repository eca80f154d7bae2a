import { Button, Table, VisuallyHidden } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, list } from "../../api/client";
import { dayTime, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Password } from "./Password";
import { Section } from "./Section";
import { useChange } from "./useChange";

/** Where one is signed in, and the password. */
export function Sessions() {
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: () => list(api.GET("/api/v1/sessions")) });
  const { error, change } = useChange("sessions", "people");
  const [isChanging, setChanging] = useState(false);
  const [said, setSaid] = useState("");
  const rows = sessions.data ?? [];
  const others = rows.filter((r) => !r.is_this).length;
  return (
    <Section
      title="Your sessions"
      sum={`${rows.length || ""}`}
      isPending={sessions.isPending}
      error={error ?? sessions.error}
      action={<Button onClick={() => setChanging(true)}>Change the password</Button>}
    >
      {said && <p role="status">{said}</p>}
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>browser</Table.Th>
            <Table.Th>address</Table.Th>
            <Table.Th>last used, {zoneName(Date.now(), fleetZone())}</Table.Th>
            <Table.Th>
              <VisuallyHidden component="span">end</VisuallyHidden>
            </Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.map((r) => (
            <Table.Tr key={r.id}>
              <Table.Td title={r.agent}>
                {r.is_this ? <strong>this one, {browserOf(r.agent ?? "")}</strong> : browserOf(r.agent ?? "")}
              </Table.Td>
              <Table.Td ff="monospace" pr={16} className="nowrap">
                {r.address}
              </Table.Td>
              <Table.Td className="soft">
                {r.is_this
                  ? `since ${dayTime(r.created_at ?? "", fleetZone())}`
                  : dayTime(r.last_seen_at ?? "", fleetZone())}
              </Table.Td>
              <Table.Td className="right nowrap">
                {!r.is_this && (
                  <Button
                    aria-label={`End the session at ${r.address}`}
                    onClick={() =>
                      change(() => api.DELETE("/api/v1/sessions/{id}", { params: { path: { id: r.id } } }))
                    }
                  >
                    End
                  </Button>
                )}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {others > 0 && (
        <p>
          <Button onClick={() => change(() => api.DELETE("/api/v1/sessions"))}>
            {others === 1 ? "End the other one" : `End the other ${others}`}
          </Button>
        </p>
      )}
      {isChanging && (
        <Password
          onClose={() => setChanging(false)}
          onDone={() => setSaid("The password is changed; every other session has ended.")}
        />
      )}
    </Section>
  );
}

/** Browser and system, as far as what it says of itself shows. */
export function browserOf(agent: string): string {
  const browser = ["Firefox", "Edg", "Chrome", "Safari"].find((b) => agent.includes(b));
  const system = ["Android", "iPhone", "iPad", "Windows", "Mac OS", "Linux"].find((s) => agent.includes(s));
  if (!browser) return agent.split("/")[0]?.slice(0, 30) || "a program";
  return `${browser === "Edg" ? "Edge" : browser}${system ? ` on ${system}` : ""}`;
}
