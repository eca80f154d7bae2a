import type { ChartWindow } from "../../api/client";
import type { Range } from "../../charts/TimePane";

/** What was learnt from: the training part filled, what came after open, validation and locked spans named. */
export function SplitBar({ view, range }: { view: ChartWindow; range: Range }) {
  const split = (view.resolved as { split?: Record<string, [string, string]> } | undefined)?.split ?? {};
  const x = (ms: number) => Math.min(100, Math.max(0, ((ms - range[0]) / (range[1] - range[0])) * 100));
  const until = view.train_until ?? null;
  if (until === null && Object.keys(split).length === 0) return null;
  return (
    <div className="lane-row">
      <span className="lane-name">split</span>
      <div className="span-lane split">
        <div
          className="trained"
          style={{ width: `${x(until ?? range[1])}%` }}
          title="training: what the baseline learnt from"
        />
        {Object.entries(split).map(([name, [a, b]]) => (
          <div
            key={name}
            className="locked"
            style={{ left: `${x(Date.parse(a))}%`, width: `${x(Date.parse(b)) - x(Date.parse(a))}%` }}
            title={`${name}: never learnt from`}
          >
            {name}
          </div>
        ))}
      </div>
    </div>
  );
}
