import { act, renderHook } from "@testing-library/react";
import { describe, expect, it, vi } from "vitest";
import { aFinding } from "../../test/helper";
import { useFindingSteps } from "./useFindingSteps";

const HOUR = 3_600_000;

function steps(all: ReturnType<typeof aFinding>[] | null, drawn: ReturnType<typeof aFinding>[]) {
  const choose = vi.fn();
  const hook = renderHook(() => useFindingSteps(all, drawn, null, [0, 100 * HOUR], choose));
  return { choose, hook };
}

describe("a step from finding to finding", () => {
  const second = aFinding({ id: 2, start: 30 * HOUR, end: 31 * HOUR });
  const all = [aFinding({ id: 1, start: 2 * HOUR, end: 3 * HOUR }), second];

  it("takes what the chart draws, also before the whole list has come", () => {
    const { choose, hook } = steps(null, [second]);
    act(() => expect(hook.result.current.pick(30.5 * HOUR, 0)).toBe(true));
    expect(choose).toHaveBeenCalledWith(second);
    expect(hook.result.current.announced).toMatch(/^Finding: /);
    act(() => hook.result.current.step(1));
    expect(choose).toHaveBeenCalledTimes(1);
  });
  it("counts a finding of the chart in the list of all", () => {
    const { hook } = steps(all, [{ ...second }]);
    act(() => hook.result.current.take({ ...second }));
    expect(hook.result.current.announced).toMatch(/^Finding 2 of 2: /);
  });
  it("picks nothing where nothing was found", () => {
    const { choose, hook } = steps(all, all);
    act(() => expect(hook.result.current.pick(20 * HOUR, HOUR)).toBe(false));
    expect(choose).not.toHaveBeenCalled();
  });
});
