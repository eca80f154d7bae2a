import { Box } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import type { ReactNode } from "react";
import type { ChartWindow } from "../../api/client";
import { pathOf } from "../../charts/path";
import { figure, plural } from "../../parts/words";
import type { Training } from "./useTrial";

interface Learnt {
  epoch_losses: [number, number][];
  best_epoch: number;
}

const USUAL = 640;
const MOST = 760;
const H = 170;
const LEFT = 52;
const FOOT = 22;
const TICKS = 3;
const LINE = 14;
/** Between the middles of two words under the axis. */
const APART = 60;

/** What a network's training left behind; null for a baseline that is none. */
export function learntOf(view: ChartWindow): Learnt | null {
  const facts = (view.resolved as { facts?: Partial<Learnt> } | undefined)?.facts;
  return facts?.epoch_losses && facts.best_epoch ? (facts as Learnt) : null;
}

/** Error by epoch, of what trained and of what did not: which epoch is kept, and from where on it learned by heart. */
export function Loss({ learnt }: { learnt: Learnt }) {
  const { epoch_losses: losses, best_epoch: best } = learnt;
  const [last, kept] = [losses.at(-1) ?? [0, 0], losses[best - 1] ?? [0, 0]];
  return (
    <LossLines
      losses={losses}
      best={best}
      isKept
      label={`Mean squared error by epoch: training ends at ${figure(last[0], 3)}, validation is least, ${figure(kept[1], 3)}, in epoch ${best}`}
    >
      {wordsOf(learnt)}
    </LossLines>
  );
}

/** The same while a network trains: what it has come to so far. */
export function LossSoFar({ training }: { training: Training }) {
  const losses = training.epoch_losses.map(([own, other]): [number, number] => [own, other ?? own]);
  const best = 1 + losses.reduce((least, [, v], i) => (v < (losses[least]?.[1] ?? v) ? i : least), 0);
  const words = `Network ${training.number} of this scan, epoch ${losses.length}; the best so far is ${best}.`;
  return (
    <LossLines losses={losses} best={best} isKept={false} label={words}>
      {words} Cancel it where the broken line falls and the other rises: it learns by heart.
    </LossLines>
  );
}

function LossLines({
  losses,
  best,
  isKept,
  label,
  children,
}: {
  losses: [number, number][];
  best: number;
  isKept: boolean;
  label: string;
  children: ReactNode;
}) {
  const { ref, width } = useElementSize();
  const W = Math.min(width || USUAL, MOST);
  const all = losses.flat();
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const x = (i: number) => LEFT + (i / Math.max(losses.length - 1, 1)) * (W - LEFT - 90);
  const y = (v: number) => 8 + (1 - (v - low) / (high - low || 1)) * (H - FOOT - 16);
  const last = losses.at(-1) ?? [0, 0];
  const kept = losses[best - 1] ?? last;
  const line = (of: 0 | 1) =>
    pathOf(
      losses.map((row) => row[of]),
      x,
      y,
    );
  return (
    <Box component="figure" m="4px 0 0" ref={ref}>
      <svg width={W} height={H} role="img" aria-label={label}>
        {best < losses.length && (
          <rect
            x={x(best - 1)}
            y="0"
            width={x(losses.length - 1) - x(best - 1)}
            height={H - FOOT}
            fill="var(--wash)"
          />
        )}
        {Array.from({ length: TICKS }, (_, i) => low + ((high - low) * i) / (TICKS - 1)).map((v) => (
          <g key={v}>
            <line x1={LEFT} x2={W - 90} y1={y(v)} y2={y(v)} stroke="var(--hair)" />
            <text x={LEFT - 6} y={y(v) + 4} textAnchor="end" fontSize={10.5} fill="var(--ink-soft)">
              {figure(v, 3)}
            </text>
          </g>
        ))}
        <path d={line(0)} fill="none" stroke="var(--line)" strokeWidth="1.4" strokeDasharray="5 3" />
        <path d={line(1)} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
        <circle cx={x(best - 1)} cy={y(kept[1])} r="4" fill="var(--shift)" />
        {apart([y(last[0]), y(last[1])]).map((at, i) => (
          <text key={NAMES[i]} x={W - 84} y={at + 4} fontSize={10.5} fill="var(--ink-soft)">
            {NAMES[i]}
          </text>
        ))}
        {[...new Set([1, best, losses.length])]
          .filter((epoch) => epoch === best || Math.abs(x(epoch) - x(best)) > APART)
          .map((epoch) => (
            <text
              key={epoch}
              x={x(epoch - 1)}
              y={H - 6}
              textAnchor="middle"
              fontSize={10.5}
              fill="var(--ink-soft)"
            >
              {epoch === best ? `epoch ${epoch}, ${isKept ? "kept" : "best"}` : epoch}
            </text>
          ))}
      </svg>
      <figcaption className="soft small">{children}</figcaption>
    </Box>
  );
}

const NAMES = ["training", "validation"];

/** Two heights at least a line of text apart, in the same order. */
function apart([a, b]: [number, number]): [number, number] {
  const middle = (a + b) / 2;
  if (Math.abs(a - b) >= LINE) return [a, b];
  return a <= b ? [middle - LINE / 2, middle + LINE / 2] : [middle + LINE / 2, middle - LINE / 2];
}

/** What the two lines say, and what to change. */
export function wordsOf({ epoch_losses: losses, best_epoch: best }: Learnt): string {
  const [training, validation] = losses[best - 1] ?? [0, 0];
  const after = losses.length - best;
  const first = `Mean squared error in scaled units; the last fifth in time did not train. `;
  const kept = `${first}The weights of epoch ${best} are kept: `;
  if (after > 0)
    return (losses.at(-1)?.[0] ?? training) < training
      ? `${kept}in the ${plural(after, "epoch")} after it the network learned its windows by heart. If that comes early, take a smaller network or more history.`
      : `${kept}the ${plural(after, "epoch")} after it made it no better.`;
  if (validation > 2 * training)
    return `${first}What it has not seen it gets wrong twice as much: take a smaller network, or more history.`;
  return `${first}The error still fell in the last epoch: more epochs may bring more.`;
}
