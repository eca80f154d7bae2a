import { Button } from "@mantine/core";
import { useRef, useState } from "react";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Bulk } from "./Bulk";
import { EntryForm } from "./EntryForm";
import { EntryLanes } from "./EntryLanes";
import { EntryTable } from "./EntryTable";
import { Import } from "./Import";
import { type Door, LogbookTools } from "./LogbookTools";
import { Quiets } from "./Quiets";
import { useLogbook } from "./useLogbook";

/** The annotated history as lanes over time and as a list: filter, write, correct, take out, import and export. */
export default function Logbook() {
  const book = useLogbook();
  const { filter, narrow, entries, report, error, undo, gone } = book;
  const [open, setOpen] = useState<Door | null>(null);
  const [ticked, setTicked] = useState<number[]>([]);
  const write = useRef<HTMLButtonElement>(null);
  useKeys({ w: () => write.current?.click() });
  const rows = entries.data?.pages.flatMap((p) => p.items) ?? [];
  const first = entries.data?.pages[0];
  const isFiltered = Object.values(filter).some((value) => value !== undefined);
  return (
    <div className="padded">
      <TopBar>
        <h1>Logbook</h1>
        <span className="soft">
          {plural(first?.total ?? 0, "entry", "entries")}
          {isFiltered ? " fit" : ""}, version {first?.version ?? 0}
        </span>
      </TopBar>
      <LogbookTools {...{ filter, narrow, open, setOpen, write }} />
      {report && (
        <p role="status">
          {report} {undo !== null && <Button onClick={() => void book.undoAll(undo)}>Undo</Button>}
          {gone && <Button onClick={() => void book.restore(gone)}>Put it back</Button>}
        </p>
      )}
      {error !== null && <Trouble error={error} />}
      {open === "entry" && (
        <EntryForm
          onDone={() => {
            setOpen(null);
            void book.fresh();
          }}
        />
      )}
      {open === "import" && (
        <Import
          onDone={(words, changes) => {
            setOpen(null);
            book.done(words, changes);
          }}
        />
      )}
      <Quiets isOpen={open === "quiet"} onDone={() => setOpen(null)} />
      <EntryLanes filter={filter} onSpan={(from, to) => narrow({ from, to })} zone={fleetZone()} />
      {ticked.length > 0 && (
        <Bulk
          entries={ticked}
          onDone={(words, changes) => {
            setTicked([]);
            book.done(words, changes);
          }}
          onForget={() => setTicked([])}
        />
      )}
      {entries.isPending && <Waiting what="Reading the logbook" />}
      {entries.isError && <Trouble error={entries.error} retry={() => entries.refetch()} />}
      {entries.data && rows.length === 0 && (
        <div className="empty">
          <h2>{isFiltered ? "Nothing matches" : "The logbook is empty"}</h2>
          <p>Verdicts given in review land here; a labels file with a start column can be imported.</p>
        </div>
      )}
      {rows.length > 0 && (
        <EntryTable
          {...{ rows, ticked, setTicked }}
          onRemove={(entry) => void book.remove(entry)}
          onSaved={() => void book.fresh()}
        />
      )}
      {entries.hasNextPage && <Button onClick={() => entries.fetchNextPage()}>Show more</Button>}
    </div>
  );
}
