import { Box, Button, Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, get, queryOf, type Scan, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { dayEnd, dayStart, localDay } from "../../parts/clock";
import { Field, SelectField } from "../../parts/Field";
import { counted, ENDED, useJob } from "../../parts/jobs";
import { DayField } from "../../parts/When";
import { plural, ratio, spanWords } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { AddToBoard } from "../boards/AddToBoard";
import { CardBody } from "./CardBody";
import { FalseList } from "./FalseList";
import { type Events, fetchCard, isCounting, type Part, partOf } from "./figures";
import { LevelChoice } from "./LevelChoice";
import type { Marked } from "./PrecisionRecall";
import scorecardCss from "./scorecard.module.css";

/** How a scan fares against the logbook as it is now. */
export default function Scorecard() {
  const id = Number(useParams().scan);
  const [params, setAddress] = useAddress();
  const part = partOf(params);
  const card = useQuery({ queryKey: ["scorecard", id, part], queryFn: () => fetchCard(id, part) });
  if (card.isPending) return <Waiting what="Counting against the logbook" />;
  if (card.isError) return <Trouble error={card.error} retry={() => card.refetch()} />;
  if (isCounting(card.data))
    return <Counting job={card.data.counting_job} onDone={() => void card.refetch()} />;
  const set = (changes: Part) => setAddress((old) => withNames(old, { ...changes }));
  return <Counted answer={card.data} part={part} setPart={set} />;
}

/** A job counts: how far it is. */
function Counting({ job, onDone }: { job: number; onDone: () => void }) {
  const d = useJob(job, onDone);
  if (d && (d.state === "failed" || d.state === "cancelled"))
    return (
      <p className="padded" role="alert">
        The scorecard was not counted: {d.message || d.state}. <Button onClick={onDone}>Count again</Button>
      </p>
    );
  return (
    <Waiting
      what={`Counting against the logbook${d?.total ? `: ${d.done} of ${plural(d.total, "stream")}` : ""}`}
    />
  );
}

function Counted({
  answer,
  part,
  setPart,
}: {
  answer: Schema["Scorecard"];
  part: Part;
  setPart: (changes: Part) => void;
}) {
  const { scan } = answer;
  const [marked, setMarked] = useState<Marked | null>(null);
  const replayed = useQuery({
    queryKey: ["scorecard", answer.replay, part],
    enabled: answer.replay !== null,
    queryFn: () => fetchCard(answer.replay ?? 0, part),
  });
  const other = replayed.data && !isCounting(replayed.data) ? replayed.data : null;
  const beside = useQuery({
    queryKey: ["scorecard", "beside", scan.id, answer.replay, part],
    enabled: answer.replay !== null,
    queryFn: () =>
      counted(() =>
        get(
          api.GET("/api/v1/comparison", {
            params: { query: { scans: `${scan.id},${answer.replay}`, ...part } },
          }),
        ),
      ),
  });
  return (
    <div className={`padded ${scorecardCss.card}`}>
      <TopBar>
        <Link to="/scorecards" className="soft">
          Scorecards
        </Link>
        <span className="soft">›</span>
        <h1>
          {scan.plan}, v{scan.version} on {plural(answer.by_stream.length, "stream")}
        </h1>
        <span className="filler" />
        <span className="figure small">
          {spanWords(answer.span.start, answer.span.end, fleetZone())} · {fleetZone()}
        </span>
      </TopBar>
      <CardBody
        card={answer}
        scan={scan.id}
        mode={scan.mode}
        marked={marked}
        replay={other?.curve}
        part={<PartWords metrics={scan.metrics} part={part} setPart={setPart} span={answer.span} />}
        falses={<FalseList scan={scan.id} part={part} count={answer.false.length} />}
        level={<LevelChoice scan={scan} part={part} onMarked={setMarked} />}
        beside={
          <Beside
            scan={scan}
            figures={beside.data?.scans.map((s) => s.events as unknown as Events)}
            words={beside.data?.scans[1]?.against?.precision.words}
          />
        }
      />
      <Foot answer={answer} part={part} />
    </div>
  );
}

/** Which streams and which span are counted, as words that can be changed. */
function PartWords({
  metrics,
  part,
  setPart,
  span,
}: {
  metrics: string[];
  part: Part;
  setPart: (changes: Part) => void;
  span: { start: number; end: number };
}) {
  return (
    <Box component="span" display="block" mt={4} className="part">
      Counted:{" "}
      <SelectField
        className="word"
        aria-label="Family of streams"
        value={part.family ?? ""}
        onChange={(e) => setPart({ family: e.target.value })}
      >
        <option value="">all families</option>
        {metrics.map((m) => (
          <option key={m} value={m}>
            {m}
          </option>
        ))}
      </SelectField>{" "}
      from{" "}
      <DayField
        label="Counted from"
        value={localDay(part.from ?? span.start, fleetZone())}
        onChange={(day) => setPart({ from: dayStart(day, fleetZone()) ?? 0 })}
      />{" "}
      to{" "}
      <DayField
        label="Counted to"
        value={localDay(part.to ?? span.end, fleetZone())}
        onChange={(day) => setPart({ to: dayEnd(day, fleetZone()) ?? 0 })}
      />
      {(part.family || part.from || part.to || part.streams) && (
        <>
          {" "}
          <Button onClick={() => setPart({ family: "", streams: "", from: 0, to: 0 })}>
            Count all of it
          </Button>
        </>
      )}
    </Box>
  );
}

/** In-sample beside the replay of the same plan, over the span that both judged. */
function Beside({ scan, figures, words }: { scan: Scan; figures?: Events[]; words?: string }) {
  const { error, attempt } = useAttempt();
  const [isAsked, setAsked] = useState(false);
  if (scan.mode === "replay")
    return <p className="soft small">These figures are of a replay: each sample was judged by its past.</p>;
  const [one, other] = figures ?? [];
  if (one && other)
    return (
      <p className="small">
        Replayed as if live, over the span both judged: precision <strong>{ratio(other.precision)}</strong>{" "}
        beside {ratio(one.precision)} in-sample, recall <strong>{ratio(other.recall)}</strong> beside{" "}
        {ratio(one.recall)}. <span className="soft">{words}.</span>
      </p>
    );
  const replay = () =>
    attempt(async () => {
      const card = await fetchCard(scan.id, {});
      if (isCounting(card)) return;
      await api.POST("/api/v1/scans", {
        body: {
          text: scan.plan_text,
          name: scan.plan,
          streams: card.by_stream.map((s) => s.stream ?? 0),
          mode: "replay",
        },
      });
      setAsked(true);
    });
  return (
    <p className="small soft">
      In-sample: each sample was judged by a baseline that had seen it.{" "}
      {isAsked ? (
        "The replay runs; its figures will stand here."
      ) : (
        <Button onClick={replay}>Replay it as if live</Button>
      )}
      {error !== null && <Trouble error={error} />}
    </p>
  );
}

function Foot({ answer, part }: { answer: Schema["Scorecard"]; part: Part }) {
  const { scan } = answer;
  const navigate = useNavigate();
  const [title, setTitle] = useState<string | null>(null);
  const [job, setJob] = useState<number | null>(null);
  const { error, attempt } = useAttempt();
  const running = useJob(job, (done) =>
    navigate(`/published/${(done.result as { published: number }).published}`),
  );
  const publish = async () => {
    await attempt(async () => {
      const started = await get(
        api.POST("/api/v1/scans/{id}/publish", {
          params: { path: { id: scan.id }, query: part },
          body: { title: title ?? "" },
        }),
      );
      setJob(started.job);
    });
  };
  const file = (kind: string) => `/api/v1/scans/${scan.id}/scorecard.${kind}?${queryOf({ ...part })}`;
  const state = running?.state;
  return (
    <>
      {title !== null && (
        <Box
          component="form"
          py={8}
          className="publish ruled"
          onSubmit={(e) => {
            e.preventDefault();
            void publish();
          }}
        >
          <label>
            Title{" "}
            <Field
              value={title}
              maxLength={200}
              required
              w="44ch"
              onChange={(e) => setTitle(e.target.value)}
            />
          </label>{" "}
          <Button type="submit" variant="filled" disabled={job !== null && !ENDED.includes(state ?? "")}>
            Publish
          </Button>{" "}
          <span className="soft small">
            A copy of its findings, labels and scores is kept with it; it does not change any more.
          </span>
          {state === "failed" && <p role="alert">{running?.message}</p>}
          {error !== null && <Trouble error={error} />}
        </Box>
      )}
      <Group component="footer" gap={18} pt={8} className={`${scorecardCss.cardFoot} lined small`}>
        <AddToBoard pane={{ kind: "scorecard" }} />
        <Button
          aria-expanded={title !== null}
          onClick={() => setTitle(title === null ? `${scan.plan}, v${scan.version}` : null)}
        >
          Publish
        </Button>
        <Button onClick={() => print()}>Print</Button>
        {["html", "csv", "json"].map((kind) => (
          <a key={kind} className="act" href={file(kind)} download>
            {kind.toUpperCase()}
          </a>
        ))}
        <a className="act" href={file("svg")} download>
          Precision as a picture
        </a>
        <Box component="span" ml="auto" className="soft figure">
          data {answer.data_digest.slice(0, 10)} · logbook {answer.logbook_version} · {scan.plan} v
          {scan.version} · code {scan.code_version}
        </Box>
      </Group>
    </>
  );
}
