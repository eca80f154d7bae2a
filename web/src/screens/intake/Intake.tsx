import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Choices, csrfToken, get, type Preview, Problem, sendFile } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { dayTime, figure, plural } from "../../parts/words";
import { Columns } from "./Columns";
import { Becomes, Problems } from "./Problems";
import "./intake.css";

const LOCAL = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Bring in a file: see what was guessed and what is wrong, correct it, store it, scan it. */
export default function Intake() {
  const [params, setParams] = useSearchParams();
  const upload = Number(params.get("upload")) || null;
  const [error, setError] = useState<unknown>(null);
  const [isOver, setOver] = useState(false);
  const [isSending, setSending] = useState(false);
  const take = async (file?: File) => {
    if (!file) return;
    setError(null);
    setSending(true);
    try {
      const { id } = await sendFile<{ id: number }>("/api/v1/uploads", file);
      setParams({ upload: String(id) });
    } catch (problem) {
      setError(problem);
    } finally {
      setSending(false);
    }
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void take(event.dataTransfer.files[0]);
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is a shortcut; the button beside it does the same
    <div
      className="padded intake"
      data-over={isOver || undefined}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      {upload === null ? (
        <>
          <TopBar>
            <h1>Intake</h1>
          </TopBar>
          <h1>Bring in a file</h1>
          <p className="soft">
            CSV, TSV, JSON Lines or Parquet, also gzipped, with a header. Nothing is stored before you have
            seen what it will become.
          </p>
          <label className="drop">
            <input
              type="file"
              className="visually-hidden"
              aria-label="Choose a file"
              onChange={(e) => void take(e.target.files?.[0])}
            />
            <span className="primary">{isSending ? "Reading the file" : "Choose a file"}</span>{" "}
            <span className="soft">or drop it anywhere here</span>
          </label>
          {error !== null && <Trouble error={error} />}
          <Batches />
        </>
      ) : (
        <Look key={upload} upload={upload} onAnother={() => setParams({})} />
      )}
    </div>
  );
}

function Look({ upload, onAnother }: { upload: number; onAnother: () => void }) {
  const client = useQueryClient();
  const [choices, setChoices] = useState<Choices>({ zone: LOCAL });
  const [job, setJob] = useState<number | null>(null);
  const [error, setError] = useState<unknown>(null);
  const preview = useQuery({
    queryKey: ["preview", upload, choices],
    queryFn: () =>
      get(api.POST("/api/v1/uploads/{id}/preview", { params: { path: { id: upload } }, body: choices })),
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const set = (changes: Choices) => setChoices({ ...choices, ...changes });
  const store = async (thenScan: boolean) => {
    setError(null);
    try {
      const started = await get(
        api.POST("/api/v1/uploads/{id}/store", {
          params: { path: { id: upload } },
          body: { ...choices, then_scan: thenScan },
        }),
      );
      setJob(started.id);
      client.invalidateQueries({ queryKey: ["jobs"] });
    } catch (problem) {
      setError(problem);
    }
  };
  const p = preview.data;
  const title = (
    <TopBar>
      <button type="button" className="word" onClick={onAnother}>
        Intake
      </button>
      <span className="soft">›</span>
      <h1>{p?.name ?? "a file"}</h1>
      <span style={{ flex: 1 }} />
      {p && (
        <span className="figure small">
          {figure(p.size / 1e6, 1)} MB · {plural(p.rows, "row")} · {p.encoding}
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
  if (preview.isError || !p) {
    const isEncoding = preview.error instanceof Problem && preview.error.title.includes("UTF-8");
    return (
      <>
        {title}
        <Trouble error={preview.error} />
        <div className="acts">
          {isEncoding && (
            <button type="button" className="act" onClick={() => set({ encoding: "cp1252" })}>
              Read it as Windows text
            </button>
          )}
          <button type="button" className="act" onClick={() => setChoices({ zone: choices.zone })}>
            Guess again
          </button>
          <button type="button" className="act" onClick={onAnother}>
            Choose another file
          </button>
        </div>
      </>
    );
  }
  return (
    <>
      {title}
      <h1>{headline(p)}</h1>
      <p className="soft">
        {plural(p.rows_fit, "row")} fit.{" "}
        {p.rows_aside ? `${figure(p.rows_aside)} do not, and will be set aside. ` : ""}
        {p.is_stored
          ? "This file has been taken in before; storing it again changes nothing."
          : "Nothing is stored yet."}
      </p>
      <Columns preview={p} onRoles={(roles) => set({ roles })} />
      <div className="intake-lower">
        <Problems preview={p} choices={choices} onChange={set} />
        <Becomes preview={p} />
      </div>
      <Facts preview={p} choices={choices} onChange={set} />
      {error !== null && <Trouble error={error} />}
      {job === null ? (
        <div className="acts" style={{ alignItems: "center" }}>
          <button type="button" className="primary" onClick={() => store(true)} disabled={preview.isFetching}>
            Store {plural(p.rows_fit, "row")} and scan
          </button>
          <button type="button" className="act" onClick={() => store(false)} disabled={preview.isFetching}>
            Store only
          </button>
          {p.rows_aside > 0 && (
            <button type="button" className="act" onClick={() => downloadAside(upload, choices)}>
              Download the {figure(p.rows_aside)} set aside
            </button>
          )}
        </div>
      ) : (
        <Storing job={job} onAnother={onAnother} />
      )}
    </>
  );
}

function headline(p: Preview): string {
  const span = p.first && p.last ? `${p.first.slice(0, 10)} to ${p.last.slice(0, 10)}` : "";
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

function Facts({
  preview,
  choices,
  onChange,
}: {
  preview: Preview;
  choices: Choices;
  onChange: (c: Choices) => void;
}) {
  const [zone, setZone] = useState(preview.zone);
  const [metric, setMetric] = useState(preview.metric);
  return (
    <div className="facts">
      <label>
        Zone
        <input
          className="field"
          list="zones"
          value={zone}
          onChange={(e) => setZone(e.target.value)}
          onBlur={() => zone !== preview.zone && onChange({ zone })}
          onKeyDown={(e) => e.key === "Enter" && onChange({ zone })}
        />
        <datalist id="zones">
          {Intl.supportedValuesOf("timeZone").map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
        <span className="soft small">of stamps without offset, and of seasons</span>
      </label>
      <label>
        Metric
        <input
          className="field"
          value={metric}
          onChange={(e) => setMetric(e.target.value)}
          onBlur={() => onChange({ metric })}
        />
        <span className="soft small">
          {preview.streams_known ? `${plural(preview.streams_known, "stream")} of it are known` : "new here"}
        </span>
      </label>
      <label>
        Unit
        <input
          className="field"
          value={choices.unit ?? ""}
          onChange={(e) => onChange({ unit: e.target.value })}
          placeholder="taps / 15 min"
        />
      </label>
      <label>
        Bad side
        <select
          className="field"
          value={choices.bad_side ?? "both"}
          onChange={(e) => onChange({ bad_side: e.target.value as "both" | "above" | "below" })}
        >
          <option value="both">above and below</option>
          <option value="above">above</option>
          <option value="below">below</option>
        </select>
      </label>
      <div>
        Cadence
        <strong>every {preview.cadence}</strong>
        <span className="soft small">{figure(preview.cadence_share * 100, 1)} % of the steps</span>
      </div>
    </div>
  );
}

function Storing({ job, onAnother }: { job: number; onAnother: () => void }) {
  const stored = useQuery({
    queryKey: ["job", job],
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: job } } })),
    refetchInterval: (q) =>
      q.state.data && ["done", "failed", "cancelled"].includes(q.state.data.state) ? false : 500,
  });
  const result = stored.data?.result as { scan?: number; first_stream?: number } | undefined;
  const scan = useQuery({
    queryKey: ["scan", result?.scan],
    enabled: Boolean(result?.scan),
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: result?.scan ?? 0 } } })),
    refetchInterval: (q) =>
      q.state.data && ["done", "failed", "cancelled"].includes(q.state.data.state) ? false : 700,
  });
  const state = stored.data?.state;
  if (state === "failed" || state === "cancelled")
    return (
      <Trouble
        error={
          new Problem(
            400,
            stored.data?.message || "the intake failed",
            "",
            "correct the file or its layout, and store again",
          )
        }
      />
    );
  if (scan.data?.state === "failed")
    return (
      <Trouble
        error={
          new Problem(
            400,
            "the rows are stored, but the scan failed",
            "",
            "open a stream in the workbench and change its plan",
          )
        }
      />
    );
  const first = result?.first_stream;
  return (
    <p role="status" className="storing">
      {state !== "done"
        ? "Storing the rows …"
        : result?.scan && scan.data?.state !== "done"
          ? "Stored. Scanning …"
          : "Stored. "}
      {state === "done" && (!result?.scan || scan.data?.state === "done") && (
        <>
          {scan.data &&
            `${plural(scan.data.findings, "finding")} in ${plural(scan.data.streams, "stream")}. `}
          {first !== undefined && (
            <Link className="act" to={`/workbench/${first}`}>
              Open the first stream
            </Link>
          )}{" "}
          <Link className="act" to="/">
            Tide table
          </Link>{" "}
          <button type="button" className="act" onClick={onAnother}>
            Another file
          </button>
        </>
      )}
    </p>
  );
}

function Batches() {
  const batches = useQuery({ queryKey: ["batches"], queryFn: () => get(api.GET("/api/v1/batches")) });
  if (!batches.data?.length) return null;
  return (
    <section style={{ marginTop: 26 }}>
      <h2>Batches</h2>
      <table className="rows">
        <thead>
          <tr>
            <th>source</th>
            <th className="figure">streams</th>
            <th className="figure">rows taken</th>
            <th className="figure">set aside</th>
            <th>by</th>
            <th>accepted, {LOCAL}</th>
          </tr>
        </thead>
        <tbody>
          {batches.data.map((b) => (
            <tr key={b.id}>
              <td>{b.source}</td>
              <td className="figure">{figure(b.streams)}</td>
              <td className="figure">{figure(b.rows_taken)}</td>
              <td className="figure">
                {b.rows_aside ? (
                  <a className="act" href={`/api/v1/batches/${b.id}/aside.csv`}>
                    {figure(b.rows_aside)}
                  </a>
                ) : (
                  0
                )}
              </td>
              <td className="soft">{b.created_by}</td>
              <td className="soft">{dayTime(Date.parse(b.accepted_at), LOCAL)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
