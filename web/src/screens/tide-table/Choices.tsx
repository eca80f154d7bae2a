import { Box, Button, Checkbox, Fieldset, Popover } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { SelectField } from "../../parts/Field";
import { begun, plural } from "../../parts/words";
import { COLUMNS, FLEET } from "./caps";

/** Of a thousand streams some always look odd: limit the share of false ones among those shown. */
export function FleetSwitch({
  rate,
  heldBack,
  promise,
  onChange,
}: {
  rate: number | null;
  heldBack: number;
  promise: string;
  onChange: (rate: number | null) => void;
}) {
  return (
    <span title={promise && `${begun(promise)}.`}>
      <label>
        Across the fleet{" "}
        <SelectField
          className="word"
          value={rate ?? ""}
          onChange={(e) => onChange(e.target.value ? Number(e.target.value) : null)}
        >
          <option value="">every finding</option>
          {[...new Set([...FLEET, ...(rate ? [rate] : [])])].sort().map((r) => (
            <option key={r} value={r}>
              at most {Math.round(r * 1000) / 10} % false a day
            </option>
          ))}
        </SelectField>
      </label>
      {rate !== null && (
        <span className="soft small" role="status">
          {" "}
          {heldBack ? `${plural(heldBack, "finding")} held back` : "nothing held back"}
        </span>
      )}
    </span>
  );
}

/** Which columns this person's table has; kept on the server, so that they come along to another machine. */
export function Columns({ chosen }: { chosen: string[] }) {
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  const keep = (columns: string[]) =>
    attempt(async () => {
      await api.PUT("/api/v1/tide/columns", { body: { columns: columns as never } });
      await client.invalidateQueries({ queryKey: ["tide"] });
    });
  const names = Object.keys(COLUMNS);
  return (
    <Popover position="bottom-end" withinPortal trapFocus>
      <Popover.Target>
        <Button>Columns</Button>
      </Popover.Target>
      <Popover.Dropdown className="change">
        <Fieldset variant="unstyled">
          <legend className="soft small">Columns of this table, for you</legend>
          {names.map((name) => (
            <Box key={name} component="label" display="block">
              <Checkbox
                size="xs"
                checked={chosen.includes(name)}
                onChange={(e) =>
                  void keep(names.filter((n) => (n === name ? e.target.checked : chosen.includes(n))))
                }
              />{" "}
              {COLUMNS[name]}
            </Box>
          ))}
          {error !== null && <Trouble error={error} />}
        </Fieldset>
      </Popover.Dropdown>
    </Popover>
  );
}
