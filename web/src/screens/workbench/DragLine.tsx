import { Box } from "@mantine/core";
import { type PointerEvent, type ReactNode, useRef } from "react";
import { GUTTER } from "../../charts/paneOptions";
import { PAD_TOP } from "../../charts/TimePane";
import workbenchCss from "./workbench.module.css";

interface Props {
  label: string;
  min: number;
  max: number;
  now: number;
  words: string;
  /** Pixels of the pane's scale, and how far down it the line lies, from 0 to 1. */
  tall: number;
  share: number;
  /** By how much each key moves it. */
  steps: Record<string, number>;
  onStep: (by: number) => void;
  onShare: (share: number) => void;
  onHold?: () => void;
  /** Of the line and its figure: ink if not stated. */
  colour?: string;
  title?: string;
  isSplit?: boolean;
  children: ReactNode;
}

/** A value as a line over a pane, to drag or to move by keys. */
export function DragLine(props: Props) {
  const colour = props.colour ?? "var(--ink)";
  const line = useRef<HTMLDivElement>(null);
  const drag = (event: PointerEvent) => {
    if (!event.currentTarget.hasPointerCapture(event.pointerId)) return;
    const box = line.current?.parentElement?.getBoundingClientRect();
    if (box) props.onShare((event.clientY - box.top - PAD_TOP) / props.tall);
  };
  return (
    <Box
      ref={line}
      pos="absolute"
      left={56}
      right={0}
      h={14}
      mt={-7}
      className={`${workbenchCss.level} drags front`}
      role="slider"
      tabIndex={0}
      aria-label={props.label}
      aria-valuemin={props.min}
      aria-valuemax={props.max}
      aria-valuenow={props.now}
      aria-valuetext={props.words}
      style={{ top: PAD_TOP + props.share * props.tall }}
      onPointerDown={(e) => {
        props.onHold?.();
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={drag}
      onKeyDown={(e) => {
        const by = props.steps[e.key];
        if (by === undefined) return;
        e.preventDefault();
        e.stopPropagation();
        props.onStep(by);
      }}
    >
      {!props.isSplit && <Box pos="absolute" left={0} right={GUTTER} top={6} h={2} bg={colour} />}
      <Box
        component="output"
        pos="absolute"
        right={0}
        top={-5}
        bg={colour}
        c="var(--paper)"
        fz={13}
        p="2px 8px"
        className="figure"
        title={props.title}
      >
        {props.children}
      </Box>
    </Box>
  );
}
