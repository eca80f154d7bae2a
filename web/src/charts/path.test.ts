import { expect, it } from "vitest";
import { pathOf, washOf } from "./path";

const same = (v: number) => v;

it("breaks a line where a value is missing, and at gaps", () => {
  expect(pathOf([1, 2, null, 4, 5], same, same)).toBe("M0.0 1.0L1.0 2.0M3.0 4.0L4.0 5.0");
  expect(pathOf([1, 2, 3], same, same, (i) => i === 2)).toBe("M0.0 1.0L1.0 2.0M2.0 3.0");
  expect(pathOf([null, undefined], same, same)).toBe("");
});

it("fills between two edges where both are there", () => {
  expect(washOf([0, 0, null, 0], [1, 2, 3, 4], same, same)).toBe("M0.0 1.0L1.0 2.0L1.0 0.0L0.0 0.0Z");
});
