import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Entry } from "../api/client";
import { isBad, Mark, VerdictMark } from "../parts/marks";
import { aFinding, aPreview, show } from "../test/helper";
import { Columns } from "./intake/Columns";
import { Becomes, Problems } from "./intake/Problems";
import { Before } from "./review/Before";
import { findingWords } from "./review/words";
import { wider } from "./scorecard/figures";
import { linkTo } from "./tide-table/Strongest";
import { linesOf } from "./tide-table/TideTable";
import { LogbookLane } from "./workbench/LogbookLane";

describe("the tide table's lines", () => {
  it("are the head of each family and its streams, by their place in the order of all", () => {
    const family = (metric: string, streams: number) => ({
      metric,
      streams,
      unit: "",
      adrift: 0,
      digits: null,
    });
    const lines = linesOf([family("b", 2), family("a", 1)]);
    expect(lines.map((l) => (l.kind === "family" ? l.family.metric : l.at))).toEqual(["b", 0, 1, "a", 2]);
    expect(linesOf([])).toEqual([]);
  });
  it("links a finding to its place with days around it", () => {
    const f = aFinding();
    const link = new URL(linkTo(f), "http://x");
    expect(link.pathname).toBe("/workbench/7");
    expect(Number(link.searchParams.get("from"))).toBeLessThan(f.start);
    expect(Number(link.searchParams.get("to"))).toBeGreaterThan(f.end);
    expect(link.searchParams.get("finding")).toBe("1");
  });
});

describe("a finding in words", () => {
  it("says when, how long, which side, how far and against what, in local time with its zone", () => {
    expect(findingWords(aFinding())).toBe(
      "Sat 22 Aug 09:15 – Sat 22 Aug 14:30 GMT+1, 21 samples above, up to 11.8 σ: 506 taps where 274 was expected.",
    );
  });
  it("says the size of a shift and how sure it is", () => {
    expect(
      findingWords(aFinding({ kind: "shift", direction: "up", size: 0.31, confidence: 0.99 })),
    ).toContain("a step of +0.31 taps, confidence 0.99");
  });
});

describe("marks tell by shape, not by colour alone", () => {
  it("names side and kind", () => {
    show(
      <>
        <Mark kind="outlier" direction="above" />
        <Mark kind="outlier" direction="below" isBad={false} />
        <Mark kind="shift" direction="up" />
      </>,
    );
    const [above, below, shift] = screen.getAllByRole("img");
    expect([above, below, shift].map((m) => m?.getAttribute("aria-label"))).toEqual([
      "above",
      "below",
      "shift up",
    ]);
    expect(above?.innerHTML).not.toBe(below?.innerHTML);
    expect(below?.querySelectorAll("path")[1]?.getAttribute("fill")).toBe("none");
  });
  it("fills what is bad for the stream", () => {
    expect(isBad(aFinding({ direction: "above" }), "below")).toBe(false);
    expect(isBad(aFinding({ direction: "below" }), "below")).toBe(true);
    expect(isBad(aFinding({ kind: "shift", direction: "up" }), "below")).toBe(true);
  });
  it("draws each verdict in a pattern of its own", () => {
    const drawn = ["incident", "foreseen", "false-alarm", "unsure"].map((v) => {
      const { container, unmount } = show(<VerdictMark verdict={v} />);
      const html = container.querySelector("svg")?.innerHTML;
      unmount();
      return html;
    });
    expect(new Set(drawn).size).toBe(4);
  });
});

describe("intake", () => {
  it("shows each column with role, reason and broken cells", () => {
    show(<Columns preview={aPreview()} onRoles={() => undefined} onShuffle={() => undefined} />);
    expect((screen.getByLabelText("Role of place") as HTMLSelectElement).value).toBe("series");
    expect(screen.getByText(/numbers; 2.0 % missing/)).toBeTruthy();
    expect(screen.getByText("closed").closest("td")?.dataset.broken).toBe("true");
    expect(screen.getByText("missing")).toBeTruthy();
    expect(screen.getByRole("img", { name: "histogram, 0 to 532" })).toBeTruthy();
  });
  it("hands on all roles when one is changed", () => {
    const onRoles = vi.fn();
    show(<Columns preview={aPreview()} onRoles={onRoles} onShuffle={() => undefined} />);
    fireEvent.change(screen.getByLabelText("Role of place"), { target: { value: "leave out" } });
    expect(onRoles).toHaveBeenCalledWith({ stamp: "time", place: "leave out", taps: "value" });
  });
  it("says what is wrong, where first, and offers the remedy", async () => {
    const onChange = vi.fn();
    show(<Problems preview={aPreview()} choices={{}} onChange={onChange} />);
    expect(screen.getByText("2 rows")).toBeTruthy();
    expect(screen.getByText(/first in line 9/)).toBeTruthy();
    expect(screen.getByText("fine")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Take “closed” as missing" }));
    expect(onChange).toHaveBeenCalledWith({ missing_words: ["closed"] });
  });
  it("takes a word back", async () => {
    const onChange = vi.fn();
    show(
      <Problems
        preview={aPreview({ problems: [] })}
        choices={{ missing_words: ["closed"] }}
        onChange={onChange}
      />,
    );
    expect(screen.getByText(/every row fits/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Put back" }));
    expect(onChange).toHaveBeenCalledWith({ missing_words: [] });
  });
  it("shows what it will become", () => {
    show(<Becomes preview={aPreview({ streams: 9 })} />);
    expect(screen.getByText("Northquay")).toBeTruthy();
    expect(screen.getByText("and 8 more")).toBeTruthy();
  });
});

describe("the logbook lane", () => {
  const entry = (id: number, from: number, to: number, verdict: Entry["verdict"], cause: string): Entry => ({
    id,
    etag: "",
    scope: "",
    start: from,
    end: to,
    verdict,
    kind: "",
    cause,
    note: "",
    author: "M",
    origin: "independent",
    created_at: 0,
  });
  const HOUR = 3_600_000;
  it("places entries on the axis, behind them what was looked through", () => {
    show(
      <LogbookLane
        entries={[
          entry(1, 25 * HOUR, 50 * HOUR, "incident", "storm"),
          entry(2, 0, 100 * HOUR, "reviewed", "all"),
        ]}
        range={[0, 100 * HOUR]}
        zone="UTC"
      />,
    );
    const [behind, storm] = screen.getAllByRole("button");
    expect(behind?.dataset.verdict).toBe("reviewed");
    expect(storm?.getAttribute("aria-label")).toContain("incident: storm");
    expect([storm?.style.left, storm?.style.width]).toEqual(["25%", "25%"]);
    expect(screen.getByText("storm")).toBeTruthy();
  });
  it("writes no words over the next entry", () => {
    const close = [
      entry(1, 10 * HOUR, 11 * HOUR, "foreseen", "islanders' market"),
      entry(2, 14 * HOUR, 15 * HOUR, "foreseen", "second market"),
    ];
    show(<LogbookLane entries={close} range={[0, 100 * HOUR]} zone="UTC" />);
    expect(screen.queryByText("islanders' market")).toBeNull();
    expect(screen.getByText("second market")).toBeTruthy();
  });
  it("says when nothing is noted", () => {
    show(<LogbookLane entries={[]} range={[0, 1]} zone="UTC" />);
    expect(screen.getByText("nothing noted here")).toBeTruthy();
  });
});

describe("small things that figures hang on", () => {
  it("of two intervals the wider one is shown", () => {
    expect(wider([0.5, 0.9], [0.6, 0.8])).toEqual([0.5, 0.9]);
    expect(wider([0.5, 0.7], [0.3, 0.9])).toEqual([0.3, 0.9]);
    expect(wider(null, [0.1, 0.2])).toEqual([0.1, 0.2]);
    expect(wider(null, null)).toBeNull();
  });
  it("the weeks before are named by their day, or said to be missing", () => {
    const past = {
      start: Date.UTC(2026, 7, 15),
      values: [1, 2, 3],
      expected: [1, 2, 3],
      lower: [0, 1, 2],
      upper: [2, 3, 4],
    };
    const seen = show(
      <Before finding={aFinding()} before={[past, { ...past, start: Date.UTC(2026, 7, 8) }]} />,
    );
    expect(screen.getByText(/The 2 Saturdays before/)).toBeTruthy();
    seen.unmount();
    show(<Before finding={aFinding()} before={[]} />);
    expect(screen.getByText(/no history that far back/)).toBeTruthy();
  });
});
