import { Box, Button, Checkbox, Fieldset, Popover } from "@mantine/core";
import { useState } from "react";
import { Waiting } from "../../parts/ask";
import { Field } from "../../parts/Field";
import { useStreams } from "../../parts/streams";
import { figure } from "../../parts/words";
import type { StreamFacts } from "./types";

const MOST_SHOWN = 200;

/** Streams picked by hand, of any family, to try a plan on: what is tried on them can then be made to stand for them. */
export function Selection({
  stream,
  isBusy,
  onTry,
}: {
  stream: StreamFacts;
  isBusy: boolean;
  onTry: (streams: number[]) => void;
}) {
  const [isOpen, setOpen] = useState(false);
  const [picked, setPicked] = useState<number[]>([stream.id]);
  const [text, setText] = useState(stream.metric);
  const tide = useStreams(text, { count: MOST_SHOWN, isAsked: isOpen });
  const { rows: found = [], total = 0 } = tide.data ?? {};
  const turn = (id: number, isIn: boolean) =>
    setPicked((old) => (isIn ? [...old, id] : old.filter((p) => p !== id)));
  return (
    <Popover opened={isOpen} onChange={setOpen} position="bottom-end" withinPortal trapFocus>
      <Popover.Target>
        <Button aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
          Try on a selection
        </Button>
      </Popover.Target>
      <Popover.Dropdown className="change">
        <Box w={300} className="selection">
          <Field
            aria-label="Find streams to try it on"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          {tide.isPending && <Waiting what="Reading the streams" />}
          <Fieldset variant="unstyled">
            <legend className="soft small">{figure(total)} found</legend>
            {found.map((r) => (
              <label key={r.id}>
                <Checkbox
                  size="xs"
                  checked={picked.includes(r.id)}
                  onChange={(e) => turn(r.id, e.target.checked)}
                />{" "}
                {r.metric} · {r.title}
              </label>
            ))}
          </Fieldset>
          <Button
            disabled={isBusy || picked.length === 0}
            onClick={() => {
              setOpen(false);
              onTry(picked);
            }}
          >
            Try on these {figure(picked.length)}
          </Button>
        </Box>
      </Popover.Dropdown>
    </Popover>
  );
}
