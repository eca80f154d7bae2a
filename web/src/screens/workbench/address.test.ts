import { describe, expect, it } from "vitest";
import { type BenchAddress, readAddress, writeAddress } from "./address";

const full: BenchAddress = {
  scan: 7,
  range: [1_000, 2_000],
  level: 4.55,
  finding: 12,
  side: "plan",
  hasParts: true,
  hasFold: true,
  hasForms: true,
  hasLoss: true,
  hasUnits: true,
  beside: [3, 4],
  others: { ids: [8, 9], isCommon: true, isOver: true },
  look: { by: "day", isLog: true, isStep: true, under: "week" },
  ahead: { days: "7", interval: "0.95", skip: 96, side: "above", limit: 1.5, isFamily: true },
};

describe("the address of the workbench", () => {
  it("says everything that it was given, and reads it back", () => {
    expect(readAddress(writeAddress(new URLSearchParams(), full))).toEqual(full);
  });
  it("is empty for what is usual, and keeps what it does not know", () => {
    const usual = readAddress(new URLSearchParams());
    expect(writeAddress(new URLSearchParams("theme=2"), usual).toString()).toBe("theme=2");
    expect(usual).toMatchObject({ scan: null, range: null, level: null, ahead: null, beside: [] });
  });
  it("changes one part and leaves the others", () => {
    const written = writeAddress(new URLSearchParams(), full);
    const next = readAddress(writeAddress(written, { level: null, others: { ...full.others, ids: [] } }));
    expect(next).toEqual({ ...full, level: null, others: { ids: [], isCommon: false, isOver: false } });
  });
  it.each([
    "from=a&to=2",
    "from=5&to=2",
    "level=deep",
    "by=fortnight",
    "side=left",
    "beside=x,,y",
    "under=year",
    "limit=beside 3",
  ])("takes no notice of %s", (text) => {
    expect(readAddress(new URLSearchParams(text))).toEqual(readAddress(new URLSearchParams()));
  });
});
