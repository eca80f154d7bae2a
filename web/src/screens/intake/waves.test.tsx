import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Preview } from "../../api/client";
import { aPreview, show } from "../../test/helper";
import { Waves, wavesOf } from "./Waves";

const NAMES = Array.from({ length: 16 }, (_, i) => `w${i}`);

/** A file whose rows may be waveforms: sixteen numbered columns beside a stamp and a class. */
function table(changes: Partial<Preview> = {}): Preview {
  const column = (name: string, role: string, kind: string, labels: string[] = []) => ({
    name,
    role,
    reason: "",
    missing: 0,
    distinct: 2,
    picture: { kind, bars: [], labels },
  });
  const row = (line: number, word: string) => ({
    line,
    cells: ["2026-08-01", word, ...NAMES.map((_, i) => (i === 3 ? "" : String(line + i)))],
    broken_column: null,
  });
  return aPreview({
    columns: [
      column("time", "time", "times"),
      column("class", "series", "texts", ["normal", "worn"]),
      ...NAMES.map((n) => column(n, "value", "numbers")),
    ] as never,
    sample: [row(2, "normal"), row(3, "worn")],
    random: [row(3, "worn"), row(9, "normal")],
    waves: NAMES,
    ...changes,
  });
}

describe("a table whose rows may be waveforms", () => {
  it("shows rows once each, those of another class apart", () => {
    const waves = wavesOf(table());
    expect(waves.map((w) => [w.line, w.isOdd])).toEqual([
      [2, false],
      [9, false],
      [3, true],
    ]);
    expect(waves[0]?.values.slice(0, 5)).toEqual([2, 3, 4, null, 6]);
  });

  it("is read so once its step is stated, and back again", async () => {
    const onChange = vi.fn();
    const { unmount } = show(<Waves preview={table()} onChange={onChange} />);
    expect(screen.getByText(/16 columns, w0 to w15/)).toBeTruthy();
    expect(screen.getByRole("img", { name: /3 rows over one another, 1 of them/ })).toBeTruthy();
    const field = screen.getByLabelText("Milliseconds from sample to sample");
    await userEvent.clear(field);
    await userEvent.type(field, "2.5");
    await userEvent.click(screen.getByRole("button", { name: "Read each row as one waveform" }));
    expect(onChange).toHaveBeenLastCalledWith({ wave_step_s: 0.0025, roles: undefined, kept: 0 });
    unmount();
    show(<Waves preview={table({ wave_step_s: 0.0025 })} onChange={onChange} />);
    await userEvent.click(screen.getByRole("button", { name: "Read columns as streams" }));
    expect(onChange).toHaveBeenLastCalledWith({ wave_step_s: null });
  });

  it("is not asked about where no columns are numbered", () => {
    show(<Waves preview={aPreview()} onChange={vi.fn()} />);
    expect(screen.queryByRole("region", { name: "Waveforms" })).toBeNull();
  });
});
