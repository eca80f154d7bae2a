import { Button, Group } from "@mantine/core";
import type { RefObject } from "react";
import { queryOf, type Verdict } from "../../api/client";
import { SelectField } from "../../parts/Field";
import { FilterField } from "../../parts/FilterField";
import { VERDICT_WORDS } from "../../parts/marks";
import type { Filter } from "./useLogbook";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];
const KINDS = ["csv", "json", "ics"];

export type Door = "entry" | "import" | "quiet";

/** What is shown, and what can be brought in, written, or taken along. */
export function LogbookTools({
  filter,
  narrow,
  open,
  setOpen,
  write,
}: {
  filter: Filter;
  narrow: (changes: Record<string, string | number | null>) => void;
  open: Door | null;
  setOpen: (door: Door | null) => void;
  write: RefObject<HTMLButtonElement | null>;
}) {
  const query = queryOf({ ...filter });
  const door = (name: Door) => ({
    "aria-expanded": open === name,
    onClick: () => setOpen(open === name ? null : name),
  });
  return (
    <Group gap={22} mb={8}>
      <label>
        Verdict{" "}
        <SelectField
          className="word"
          value={filter.verdict ?? ""}
          onChange={(e) => narrow({ verdict: e.target.value })}
        >
          <option value="">any</option>
          {VERDICT_LIST.map((v) => (
            <option key={v} value={v}>
              {VERDICT_WORDS[v]}
            </option>
          ))}
        </SelectField>
      </label>
      <FilterField
        label="Filter entries"
        hint="Filter: cause, note, scope, author …"
        value={filter.text ?? ""}
        onChange={(value) => narrow({ text: value })}
      />
      {query && (
        <Button onClick={() => narrow({ verdict: null, text: null, from: null, to: null })}>Show all</Button>
      )}
      <span className="filler" />
      <Button ref={write} title="w" {...door("entry")}>
        Write an entry
      </Button>
      <Button {...door("quiet")}>Quiet until …</Button>
      <Button {...door("import")}>Import labels</Button>
      <Group component="span" gap={8} display="inline-flex">
        Export{" "}
        {KINDS.map((kind) => (
          <a
            key={kind}
            className="act"
            href={`/api/v1/logbook/export?kind=${kind}${query && `&${query}`}`}
            download
            aria-label={`Export ${kind.toUpperCase()}`}
          >
            {kind.toUpperCase()}
          </a>
        ))}
      </Group>
    </Group>
  );
}
