import { Box, Button, Group, Radio, Table } from "@mantine/core";
import { useState } from "react";
import type { Preview, Schema } from "../../api/client";
import { SelectField } from "../../parts/Field";
import { figure } from "../../parts/words";
import intakeCss from "./intake.module.css";

type Role = NonNullable<Schema["ChoicesRequest"]["roles"]>[string];

const ROLES: Record<Role, string> = {
  time: "time",
  value: "value",
  series: "tells streams apart",
  covariate: "covariate",
  denominator: "denominator",
  label: "known anomaly",
  "leave out": "leave out",
};

/** Every column with its role, the reason for the guess, a picture, and the first rows. */
export function Columns({
  preview,
  onRoles,
  onShuffle,
}: {
  preview: Preview;
  onRoles: (roles: Record<string, Role>) => void;
  onShuffle: () => void;
}) {
  const [which, setWhich] = useState<"first" | "random">("first");
  const rows = which === "first" ? preview.sample : preview.random;
  // Of the samples of a waveform two stand for all.
  const hidden = new Set(preview.waves.slice(2));
  const shown = preview.columns.filter((c) => !hidden.has(c.name));
  const roles = Object.fromEntries(preview.columns.map((c) => [c.name, c.role as Role]));
  return (
    <Box my={10} className="scrolls under">
      <Table unstyled className={intakeCss.columns}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th className={intakeCss.line}>line</Table.Th>
            {shown.map((c) => (
              <Table.Th key={c.name}>
                <h2>{c.name}</h2>
                <SelectField
                  className="word"
                  aria-label={`Role of ${c.name}`}
                  value={c.role}
                  onChange={(e) => onRoles({ ...roles, [c.name]: e.target.value as Role })}
                >
                  {Object.entries(ROLES).map(([role, words]) => (
                    <option key={role} value={role}>
                      {words}
                    </option>
                  ))}
                </SelectField>
                <Box mih={36} maw={190} className="soft small reason">
                  {c.reason}
                  {c.missing > 0 ? `; ${figure(c.missing * 100, 1)} % missing` : ""}
                  {c.role === "value" || c.role === "leave out" ? `; ${figure(c.distinct)} different` : ""}
                </Box>
                <Picture picture={c.picture} />
              </Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.map((row) => (
            <Table.Tr key={row.line}>
              <Table.Td className={`${intakeCss.line} soft`}>{row.line}</Table.Td>
              {row.cells.map((cell, i) => {
                const name = preview.columns[i]?.name;
                if (hidden.has(name ?? "")) return null;
                return (
                  <Table.Td
                    key={name}
                    data-broken={row.broken_column === name || undefined}
                    data-out={roles[name ?? ""] === "leave out" || undefined}
                  >
                    {cell || <i>missing</i>}
                  </Table.Td>
                );
              })}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <Group component="p" gap={16} my={6} className="small">
        <label>
          <Radio size="xs" name="which-rows" checked={which === "first"} onChange={() => setWhich("first")} />{" "}
          first rows
        </label>{" "}
        <label>
          <Radio
            size="xs"
            name="which-rows"
            checked={which === "random"}
            onChange={() => setWhich("random")}
          />{" "}
          random rows
        </label>{" "}
        {hidden.size > 0 && (
          <span className="soft">{figure(hidden.size)} more like the last two are not shown</span>
        )}
        {which === "random" && <Button onClick={onShuffle}>Others</Button>}
      </Group>
    </Box>
  );
}

function Picture({ picture }: { picture: Schema["Picture"] }) {
  const most = Math.max(...picture.bars, 1);
  if (picture.kind === "texts") {
    return (
      <svg viewBox="0 0 140 48" width="140" height="48" role="img" aria-label="the most frequent texts">
        {picture.bars.map((n, i) => (
          <rect
            key={picture.labels[i]}
            x="0"
            y={i * 8}
            width={(n / most) * 136}
            height="6"
            fill="var(--line)"
            opacity="0.6"
          />
        ))}
      </svg>
    );
  }
  const width = 140 / Math.max(1, picture.bars.length);
  return (
    <svg
      viewBox="0 0 140 48"
      width="140"
      height="48"
      role="img"
      aria-label={picture.kind === "times" ? "rows over time" : `histogram, ${picture.labels.join(" to ")}`}
    >
      {picture.bars.map((n, i) => (
        <rect
          // biome-ignore lint/suspicious/noArrayIndexKey: bins have no other name
          key={i}
          x={i * width}
          y={36 - (n / most) * 34}
          width={Math.max(1, width - 1)}
          height={(n / most) * 34}
          fill="var(--line)"
          opacity="0.6"
        />
      ))}
      <path d="M0 36.5H140" stroke="var(--line)" />
      {picture.labels.length === 2 && (
        <g fontSize="10.5" fill="var(--ink-soft)" fontFamily="var(--mono)">
          <text x="0" y="47">
            {picture.labels[0]}
          </text>
          <text x="140" y="47" textAnchor="end">
            {picture.labels[1]}
          </text>
        </g>
      )}
    </svg>
  );
}
