import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { moving } from "./gestures";
import { palette, usePalette } from "./palette";
import { columns, optionsOf, type PaneProps } from "./paneOptions";

export { AXIS_WIDTH, PAD_BOTTOM, PAD_TOP } from "./paneOptions";
export type { Column, Line, Range } from "./shapes";

/**
 * One pane of a stack on a common time axis, with a linked cursor. A drag pans, with Ctrl it marks a span to zoom to and
 * with Shift one to write about; the wheel zooms with Ctrl and else scrolls the page; a double click resets.
 */
export function TimePane(props: PaneProps) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  const latest = useRef(props);
  latest.current = props;
  const scheme = usePalette();
  const shape = props.lines.map((l) => `${l.stroke}${l.width ?? ""}${l.dash ?? ""}${l.isStep}`).join();

  // biome-ignore lint/correctness/useExhaustiveDependencies: the chart is made anew only when its shape or colours change; data and range follow below
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    let isShift = false;
    const options = optionsOf(latest, element, palette(), () => isShift);
    const made = new uPlot(options, columns(latest.current), element);
    chart.current = made;
    made.over.addEventListener("mousedown", (event) => {
      isShift = event.shiftKey;
    });
    const unmove = moving(made, latest);
    const watch = new ResizeObserver(() => {
      const { clientWidth: width } = element;
      // It reports once from the start, where nothing has changed that would have to be drawn anew.
      if (width !== made.width) made.setSize({ width, height: latest.current.height });
    });
    watch.observe(element);
    return () => {
      watch.disconnect();
      unmove();
      made.destroy();
      chart.current = null;
    };
  }, [shape, scheme, props.height, props.hasTimeAxis, props.isLog]);

  useEffect(() => {
    chart.current?.setData(columns({ time: props.time, lines: props.lines, isLog: props.isLog }), false);
    chart.current?.setScale("x", { min: props.range[0], max: props.range[1] });
  }, [props.time, props.lines, props.range, props.isLog]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: redrawOn says when
  useEffect(() => chart.current?.redraw(false, true), [props.redrawOn]);

  return (
    <div ref={box} role="img" aria-label={props.label} style={{ width: "100%", height: props.height }} />
  );
}
