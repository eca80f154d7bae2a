import { type ComboboxParsedItem, MultiSelect, Select } from "@mantine/core";
import { useState } from "react";
import type { TideRow } from "../api/client";
import { useStreams } from "./streams";

const MOST_SHOWN = 60;

const optionsOf = (rows: TideRow[]) =>
  rows.map((row) => ({ value: String(row.id), label: `${row.metric} · ${row.title}` }));

/** What the lists below offer: the server finds streams by the words that are typed, of however many there are.
 * without : streams that are not offered. */
function useOffered(text: string, isOpen: boolean, without: number[]) {
  const found = useStreams(text.replace("·", " "), { count: MOST_SHOWN, isAsked: isOpen });
  const rows = (found.data?.rows ?? []).filter((row) => !without.includes(row.id));
  return {
    rows,
    more: {
      searchable: true,
      size: "xs",
      // The server has chosen already.
      filter: ({ options }: { options: ComboboxParsedItem[] }) => options,
      nothingFoundMessage: found.isPending ? "Reading the streams." : "No stream has all these words.",
      maxDropdownHeight: 320,
      comboboxProps: { width: 340, position: "bottom-start" as const },
    },
  };
}

/** One stream, found by words and taken at once; the field is empty again after it. */
export function StreamSelect({
  label,
  placeholder,
  words,
  without,
  onTake,
}: {
  label: string;
  placeholder: string;
  /** Words that the list begins with. */
  words: string;
  without: number[];
  onTake: (row: TideRow) => void;
}) {
  const [text, setText] = useState("");
  const [isOpen, setOpen] = useState(false);
  const { rows, more } = useOffered(text || words, isOpen, without);
  return (
    <Select
      {...more}
      data={optionsOf(rows)}
      aria-label={label}
      placeholder={placeholder}
      value={null}
      searchValue={text}
      onSearchChange={setText}
      onDropdownOpen={() => setOpen(true)}
      onChange={(id) => {
        const row = rows.find((r) => String(r.id) === id);
        if (row) onTake(row);
        setText("");
      }}
    />
  );
}

/** Several streams, found by words; those chosen keep their names while other words are looked for. */
export function StreamsSelect({
  label,
  most,
  chosen,
  onChange,
}: {
  label: string;
  most: number;
  chosen: TideRow[];
  onChange: (rows: TideRow[]) => void;
}) {
  const [text, setText] = useState("");
  const ids = chosen.map((row) => row.id);
  const { rows, more } = useOffered(text, true, ids);
  const known = [...chosen, ...rows];
  return (
    <MultiSelect
      {...more}
      data={optionsOf(known)}
      label={label}
      miw={320}
      maxValues={most}
      hidePickedOptions
      styles={{ pill: { background: "var(--band)" } }}
      value={ids.map(String)}
      searchValue={text}
      onSearchChange={setText}
      onChange={(taken) => onChange(known.filter((row) => taken.includes(String(row.id))))}
    />
  );
}
