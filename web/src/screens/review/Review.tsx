import { Button, Checkbox } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { AreaField, Field } from "../../parts/Field";
import { type Choice, SPAN_VERDICTS, VERDICTS, Verdicts, verdictKeys } from "../../parts/Verdicts";
import { figure, plural } from "../../parts/words";
import { OneItem } from "./OneItem";
import { agreementWords, estimateWords, type Item, KIND_WORDS } from "./words";
import "../workbench/workbench.css";
import "./review.css";

/** What the chart knows of the samples around an item. */
export interface Around {
  /** The moment so many samples on. */
  moved: (at: number, by: number) => number;
  /** The end of the first finding that begins after a moment. */
  nextEnd: (after: number) => number | null;
}

export interface Edges {
  start: number;
  end: number;
  /** Where the verdict ends and the rest stays to be judged; null for none. */
  cut: number | null;
}

/** One round, one item after another: the verdict by one key, and the next is there. */
export default function Review() {
  const round = Number(useParams().round);
  const client = useQueryClient();
  const [item, setItem] = useState<Item | null | undefined>(undefined);
  const [edges, setEdges] = useState<Edges | null>(null);
  const [cause, setCause] = useState("");
  const [note, setNote] = useState("");
  const [isForRest, setForRest] = useState(false);
  const [told, setTold] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const busy = useRef(false);
  const causeField = useRef<HTMLInputElement>(null);
  const noteField = useRef<HTMLTextAreaElement>(null);
  const around = useRef<Around>({ moved: (at) => at, nextEnd: () => null });
  const state = useQuery({
    queryKey: ["rounds", round],
    queryFn: () => get(api.GET("/api/v1/rounds/{id}", { params: { path: { id: round } } })),
  });

  const show = useCallback((next: Item | null) => {
    setItem(next);
    setEdges(next && { start: next.start, end: next.end, cut: null });
    setCause("");
    setNote("");
    setForRest(false);
  }, []);
  /** One step at a time: a key pressed twice must not judge the next one too. */
  const step = useCallback(
    async (work: () => Promise<Item | null>) => {
      if (busy.current) return;
      busy.current = true;
      setBusy(true);
      setError(null);
      try {
        show(await work());
        await client.invalidateQueries({ queryKey: ["rounds"] });
      } catch (problem) {
        setError(problem);
      } finally {
        busy.current = false;
        setBusy(false);
      }
    },
    [client, show],
  );
  const next = useCallback(
    async (skip?: number) =>
      (
        await get(
          api.POST("/api/v1/rounds/{id}/next", {
            params: { path: { id: round } },
            body: skip ? { skip } : {},
          }),
        )
      ).item,
    [round],
  );
  useEffect(() => {
    void step(() => next());
  }, [step, next]);

  const judge = (choice: Choice) =>
    item &&
    edges &&
    step(async () => {
      const said = await get(
        api.POST("/api/v1/rounds/{id}/items/{item}/verdict", {
          params: { path: { id: round, item: item.id } },
          body: {
            verdict: choice.verdict,
            cause,
            note,
            rest: isForRest,
            ...(edges.start !== item.start ? { start: edges.start } : {}),
            ...(edges.end !== item.end ? { end: edges.end } : {}),
            ...(edges.cut !== null ? { split: edges.cut } : {}),
          },
        }),
      );
      setTold(
        `${choice.words}: ${item.title}${said.also ? `, and ${plural(said.also, "other")} of the incident` : ""}.`,
      );
      return next();
    });
  const undo = () =>
    step(async () => {
      const back = await get(api.POST("/api/v1/rounds/{id}/undo", { params: { path: { id: round } } }));
      setTold("Taken back.");
      return back.item;
    });
  const looked = () =>
    item &&
    edges &&
    step(async () => {
      await api.POST("/api/v1/logbook", {
        body: {
          scope: item.scope,
          start: edges.start,
          end: edges.end,
          verdict: "reviewed",
        },
      });
      setTold("This span is put down as looked through in full; the logbook can take it out.");
      return item;
    });
  const move = (edge: "start" | "end" | "cut", by: number) =>
    item &&
    setEdges((old) => {
      if (!old) return old;
      const at = around.current.moved(old[edge] ?? old.start, by);
      if (edge === "start") return at <= old.end ? { ...old, start: at, cut: null } : old;
      if (edge === "end") return at >= old.start ? { ...old, end: at, cut: null } : old;
      return old.cut !== null && at > old.start && at <= old.end ? { ...old, cut: at } : old;
    });
  const cut = () =>
    item &&
    setEdges((old) => {
      if (!old || old.cut !== null) return old && { ...old, cut: null };
      const steps = Math.round((old.end - old.start) / (item.step_s * 1000));
      return steps < 1 ? old : { ...old, cut: around.current.moved(old.start, Math.ceil(steps / 2)) };
    });
  const merge = () =>
    setEdges((old) => {
      const end = old && around.current.nextEnd(old.end);
      return old && end ? { ...old, end, cut: null } : old;
    });
  const choices = state.data?.kind === "unflagged" ? SPAN_VERDICTS : VERDICTS;
  useKeys({
    ...verdictKeys((choice) => void judge(choice), choices),
    ArrowRight: () => item && void step(() => next(item.id)),
    ArrowLeft: () => void undo(),
    z: () => void undo(),
    c: () => causeField.current?.focus(),
    n: () => noteField.current?.focus(),
    "[": () => move("start", -1),
    "]": () => move("start", 1),
    "{": () => move("end", -1),
    "}": () => move("end", 1),
    "<": () => move("cut", -1),
    ">": () => move("cut", 1),
    s: () => cut(),
    m: () => merge(),
    l: () => void looked(),
    r: () => item?.incident && setForRest(!isForRest),
  });

  if (state.isError)
    return (
      <div className="padded">
        <Trouble error={state.error} retry={() => state.refetch()} />
        <Link className="act" to="/review">
          All rounds
        </Link>
      </div>
    );
  if (!state.data || item === undefined)
    return error !== null ? <Trouble error={error} /> : <Waiting what="Reading the round" />;
  const r = state.data;
  const total = r.total - r.passed_over;
  return (
    <div className="review">
      <TopBar>
        <Link to="/review" className="soft">
          Review
        </Link>
        <h1>Round {r.id}</h1>
        <span className="soft">
          {KIND_WORDS[r.kind]}
          {r.metric && ` of ${r.metric}`}, {r.plan}
        </span>
        <span style={{ flex: 1 }} />
        <span className="figure small" role="status" aria-label="Progress">
          {figure(r.judged)} of {figure(total)} judged
        </span>
      </TopBar>
      <section className="review-main">
        <div
          className="review-progress"
          role="progressbar"
          aria-label="Judged in this round"
          aria-valuemin={0}
          aria-valuemax={total}
          aria-valuenow={r.judged}
        >
          <div style={{ width: `${total ? (100 * r.judged) / total : 0}%` }} />
        </div>
        {item && edges ? (
          <OneItem key={item.id} item={item} edges={edges} around={around} />
        ) : (
          <AllDone left={r.left} />
        )}
      </section>
      <aside className="review-side">
        <p className="soft small">
          {estimateWords(r)} {agreementWords(r)}
        </p>
        <h2>{r.kind === "unflagged" ? "Is anything there?" : "What was it?"}</h2>
        <Verdicts choices={choices} judge={(choice) => void judge(choice)} isOff={!item || isBusy} />
        {item?.incident && (
          <label className="rest">
            <Checkbox size="xs" checked={isForRest} onChange={(e) => setForRest(e.target.checked)} />
            <span>
              <kbd>R</kbd> The same for the other {item.incident.open} of{" "}
              <Link
                to={
                  item.incident.id === null
                    ? `/incidents/proposed/${item.incident.finding}`
                    : `/incidents/${item.incident.id}`
                }
              >
                {item.incident.title}
              </Link>
              <span className="soft small">
                {" "}
                {plural(item.incident.streams, "stream")}, {item.incident.state}
              </span>
            </span>
          </label>
        )}
        {error !== null && <Trouble error={error} />}
        <label>
          Cause <kbd>C</kbd>
          <Field
            ref={causeField}
            className="field"
            style={{ width: "100%" }}
            list="causes"
            maxLength={500}
            value={cause}
            onChange={(e) => setCause(e.target.value)}
            onKeyDown={(e) => (e.key === "Enter" || e.key === "Escape") && e.currentTarget.blur()}
          />
        </label>
        <label>
          Note <kbd>N</kbd>
          <AreaField
            ref={noteField}
            className="field"
            style={{ width: "100%" }}
            rows={2}
            value={note}
            onChange={(e) => setNote(e.target.value)}
            onKeyDown={(e) => e.key === "Escape" && e.currentTarget.blur()}
          />
        </label>
        <div className="acts">
          <Button onClick={() => void undo()} disabled={isBusy}>
            Undo
          </Button>
          <Button onClick={() => item && void step(() => next(item.id))} disabled={!item || isBusy}>
            Skip
          </Button>
          <span className="soft small" role="status">
            {told}
          </span>
        </div>
        <p className="soft small">
          <kbd>[</kbd> <kbd>]</kbd> start · <kbd>{"{"}</kbd> <kbd>{"}"}</kbd> end · <kbd>S</kbd> cut in two,{" "}
          <kbd>&lt;</kbd> <kbd>&gt;</kbd> move the cut · <kbd>M</kbd> join the next · <kbd>L</kbd> looked
          through · <kbd>→</kbd> skip · <kbd>Z</kbd> undo
        </p>
      </aside>
    </div>
  );
}

function AllDone({ left }: { left: number }) {
  return (
    <div className="empty">
      <h2>{left ? "Nothing is left for you here" : "Every one has its verdict"}</h2>
      <p>
        {left
          ? `${plural(left, "item")} ${left > 1 ? "wait" : "waits"} for a second person, or ${left > 1 ? "are" : "is"} before somebody else.`
          : "The scorecards say what that means for precision."}{" "}
        <Link className="act" to="/review">
          All rounds
        </Link>{" "}
        <Link className="act" to="/scorecards">
          Scorecards
        </Link>
      </p>
    </div>
  );
}
