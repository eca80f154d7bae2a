import { Box, Button, Group, UnstyledButton } from "@mantine/core";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Choices, csrfToken, get, type Preview, Problem, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { worked } from "../../parts/jobs";
import { SideBySide } from "../../parts/SideBySide";
import { dayOf, figure, plural, yearOf } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Columns } from "./Columns";
import { Facts, KeepLayout } from "./Facts";
import { Becomes, Problems } from "./Problems";
import { RowsAre, Written } from "./Sentences";
import { Storing } from "./Storing";
import { Waves } from "./Waves";

/** One file before it is stored: how it is read, its columns and rows, what is wrong, what it will become. */
export function Look({ upload, onAnother }: { upload: number; onAnother: () => void }) {
  const client = useQueryClient();
  const [choices, setChoices] = useState<Choices>({ zone: fleetZone() });
  const [job, setJob] = useState<number | null>(null);
  const { error, attempt } = useAttempt();
  // These change nothing of what is seen in the file.
  const { save_layout: _layout, unit: _unit, bad_side: _side, ...reading } = choices;
  const preview = useQuery({
    queryKey: ["preview", upload, reading],
    queryFn: ({ signal }) => {
      const ask = () =>
        get(
          api.POST("/api/v1/uploads/{id}/preview", {
            params: { path: { id: upload } },
            body: reading,
            signal,
          }),
        );
      return worked<Preview, Schema["Looking"]>(ask, (a) => ("job" in a ? a.job : null), signal);
    },
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const set = (changes: Choices) => setChoices({ ...choices, ...changes });
  const store = async (thenScan: boolean) => {
    await attempt(async () => {
      const started = await get(
        api.POST("/api/v1/uploads/{id}/store", {
          params: { path: { id: upload } },
          body: { ...choices, then_scan: thenScan },
        }),
      );
      setJob(started.id);
      client.invalidateQueries({ queryKey: ["jobs"] });
    });
  };
  const p = preview.data;
  const title = (
    <TopBar>
      <UnstyledButton className="word" onClick={onAnother}>
        Intake
      </UnstyledButton>
      <span className="soft">›</span>
      <h1>{p?.name ?? "a file"}</h1>
      <span className="filler" />
      {p && (
        <span className="figure small">
          {figure(p.size / 1e6, 1)} MB · {p.is_whole ? "" : "about "}
          {plural(p.about_rows, "row")}
        </span>
      )}
    </TopBar>
  );
  if (preview.isPending)
    return (
      <>
        {title}
        <Waiting what="Looking through the file" />
      </>
    );
  if (preview.isError || !p)
    return (
      <>
        {title}
        <Stuck error={preview.error} choices={choices} set={setChoices} onAnother={onAnother} />
      </>
    );
  return (
    <>
      {title}
      <h1>{headline(p)}</h1>
      <p className="soft">
        {plural(p.rows_fit, "row")} fit.{" "}
        {p.rows_aside ? `${figure(p.rows_aside)} do not, and will be set aside. ` : ""}
        {p.rows_dropped ? `${figure(p.rows_dropped)} are left out by the condition. ` : ""}
        {p.is_whole
          ? ""
          : `These are the first ${figure(p.rows)} of about ${figure(p.about_rows)} rows; the rest is checked the same way as it is stored. `}
        {p.is_stored
          ? "This file has been taken in before; storing it again changes nothing."
          : "Nothing is stored yet."}
      </p>
      {p.kept && (
        <p>
          Read by the layout <strong>{p.kept.name}</strong>.{" "}
          <Button onClick={() => set({ kept: 0 })}>Guess anew instead</Button>
        </p>
      )}
      <Written preview={p} onChange={set} />
      <Waves key={String(p.wave_step_s)} preview={p} onChange={set} />
      <Columns
        preview={p}
        onRoles={(roles) => set({ roles, kept: 0 })}
        onShuffle={() => set({ seed: (choices.seed ?? 0) + 1 })}
      />
      <RowsAre preview={p} choices={choices} onChange={set} />
      <SideBySide of="1.6fr 1fr" gap={34}>
        <Problems preview={p} choices={choices} onChange={set} />
        <Becomes preview={p} />
      </SideBySide>
      <Facts preview={p} choices={choices} onChange={set} />
      <KeepLayout preview={p} choices={choices} onChange={set} />
      {error !== null && <Trouble error={error} />}
      {job === null ? (
        <Group gap="6px 18px">
          <Button variant="filled" onClick={() => store(true)} disabled={preview.isFetching}>
            Store {p.is_whole ? plural(p.rows_fit, "row") : "the file"} and scan
          </Button>
          <Button onClick={() => store(false)} disabled={preview.isFetching}>
            Store only
          </Button>
          {p.rows_aside > 0 && (
            <Button onClick={() => downloadAside(upload, choices)}>
              Download the {p.is_whole ? figure(p.rows_aside) : "rows"} set aside
            </Button>
          )}
        </Group>
      ) : (
        <Storing job={job} onAnother={onAnother} />
      )}
    </>
  );
}

/** A file that cannot be read as it stands: what would help. */
function Stuck({
  error,
  choices,
  set,
  onAnother,
}: {
  error: unknown;
  choices: Choices;
  set: (c: Choices) => void;
  onAnother: () => void;
}) {
  const words = error instanceof Problem ? `${error.title} ${error.remedy}` : "";
  const [pattern, setPattern] = useState(choices.pattern ?? "");
  return (
    <>
      <Trouble error={error} />
      {words.includes("pattern") && (
        <Box component="label" w="100%">
          Pattern of a line, with a name for each field
          <Field
            value={pattern}
            placeholder="(?P<time>\S+) (?P<level>\w+) (?P<ms>\d+)"
            onChange={(e) => setPattern(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && set({ ...choices, pattern })}
          />
        </Box>
      )}
      <Group gap="6px 18px">
        {words.includes("pattern") && (
          <Button onClick={() => set({ ...choices, pattern })}>Read by this pattern</Button>
        )}
        {words.includes("UTF-8") && (
          <Button onClick={() => set({ ...choices, encoding: "cp1252" })}>Read it as Windows text</Button>
        )}
        {words.includes("no column holds times") && (
          <>
            <Button onClick={() => set({ ...choices, time_form: "day first" })}>Read stamps day first</Button>
            <Button onClick={() => set({ ...choices, time_form: "month first" })}>
              Read stamps month first
            </Button>
          </>
        )}
        <Button onClick={() => set({ zone: choices.zone })}>Guess again</Button>
        <Button onClick={onAnother}>Choose another file</Button>
      </Group>
    </>
  );
}

function headline(p: Preview): string {
  const at = (ms: number) => `${dayOf(ms, p.zone)} ${yearOf(ms, p.zone)}`;
  const span = p.first !== null && p.last !== null ? `${at(p.first)} to ${at(p.last)}` : "";
  return `${plural(p.streams, "stream")}, every ${p.cadence}, ${span}, ${p.zone}.`;
}

async function downloadAside(upload: number, choices: Choices): Promise<void> {
  const response = await fetch(`/api/v1/uploads/${upload}/aside`, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRFToken": csrfToken() },
    body: JSON.stringify(choices),
  });
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = "set-aside.csv";
  link.click();
}
