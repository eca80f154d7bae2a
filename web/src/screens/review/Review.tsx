import { Progress, Stack } from "@mantine/core";
import { useRef } from "react";
import { Link, useParams } from "react-router";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { SideBySide } from "../../parts/SideBySide";
import { SPAN_VERDICTS, VERDICTS, verdictKeys } from "../../parts/Verdicts";
import { figure, plural } from "../../parts/words";
import { OneItem } from "./OneItem";
import { ReviewSide } from "./ReviewSide";
import { useRound } from "./useRound";
import { KIND_WORDS } from "./words";

/** One round, one item after another: the verdict by one key, and the next is there. */
export default function Review() {
  const work = useRound(Number(useParams().round));
  const { state, item, edges, move } = work;
  const causeField = useRef<HTMLInputElement>(null);
  const noteField = useRef<HTMLTextAreaElement>(null);
  const choices = state.data?.kind === "unflagged" ? SPAN_VERDICTS : VERDICTS;
  useKeys({
    ...verdictKeys(work.judge, choices),
    ArrowRight: () => void work.skip(),
    ArrowLeft: () => void work.undo(),
    z: () => void work.undo(),
    c: () => causeField.current?.focus(),
    n: () => noteField.current?.focus(),
    "[": () => move("start", -1),
    "]": () => move("start", 1),
    "{": () => move("end", -1),
    "}": () => move("end", 1),
    "<": () => move("cut", -1),
    ">": () => move("cut", 1),
    s: work.cut,
    m: work.merge,
    l: () => void work.lookedThrough(),
    r: () => item?.incident && work.setForRest(!work.isForRest),
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
    return work.error !== null ? <Trouble error={work.error} /> : <Waiting what="Reading the round" />;
  const round = state.data;
  const total = round.total - round.passed_over;
  return (
    <SideBySide of="minmax(0, 1fr) 300px" h="100%">
      <TopBar>
        <Link to="/review" className="soft">
          Review
        </Link>
        <h1>Round {round.id}</h1>
        <span className="soft">
          {KIND_WORDS[round.kind]}
          {round.metric && ` of ${round.metric}`}, {round.plan}
        </span>
        <span className="filler" />
        <span className="figure small" role="status" aria-label="Progress">
          {figure(round.judged)} of {figure(total)} judged
        </span>
      </TopBar>
      <Stack component="section" gap={10} p="10px 18px" className="review-main scrolls">
        <Progress
          size={3}
          radius={0}
          transitionDuration={0}
          aria-label="Judged in this round"
          value={total ? (100 * round.judged) / total : 0}
        />
        {item && edges ? (
          <OneItem key={item.id} item={item} edges={edges} around={work.around} />
        ) : (
          <AllDone left={round.left} />
        )}
      </Stack>
      <ReviewSide {...{ round, work, choices, causeField, noteField }} />
    </SideBySide>
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
