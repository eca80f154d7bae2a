import { Box, Checkbox, Group } from "@mantine/core";
import { useState } from "react";
import type { Choices, Preview } from "../../api/client";
import { Field, SelectField } from "../../parts/Field";
import { figure, plural } from "../../parts/words";

type Side = "both" | "above" | "below";
type Rule = NonNullable<Choices["duplicates"]>;
const RULES: Record<Rule, string> = {
  mean: "their mean",
  last: "keep the last",
  first: "keep the first",
  refuse: "refuse the file",
};

interface Part {
  preview: Preview;
  choices: Choices;
  onChange: (c: Choices) => void;
}

/** A field whose change counts when it is left or Enter is pressed. */
function Entered(props: {
  label: string;
  value: string;
  hint?: string;
  list?: string;
  below: string;
  onEnter: (value: string) => void;
}) {
  const [text, setText] = useState(props.value);
  const enter = () => text !== props.value && props.onEnter(text);
  return (
    <label>
      {props.label}
      <Field
        aria-label={props.label}
        placeholder={props.hint}
        list={props.list}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={enter}
        onKeyDown={(e) => e.key === "Enter" && enter()}
      />
      <span className="soft small">{props.below}</span>
    </label>
  );
}

/** What holds for all streams of the file: zone, name, unit, side, equal stamps, and which rows are kept. */
export function Facts({ preview, choices, onChange }: Part) {
  const isWide = preview.columns.filter((c) => c.role === "value").length > 1;
  return (
    <Group gap={22} my={14} pt={10} align="flex-start" className="facts ruled fields">
      <Entered
        label="Zone"
        value={preview.zone}
        list="zones"
        below="of stamps without offset, and of seasons"
        onEnter={(zone) => onChange({ zone })}
      />
      <datalist id="zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <Entered
        label="Metric"
        value={preview.metric}
        below={
          preview.streams_known ? `${plural(preview.streams_known, "stream")} of it are known` : "new here"
        }
        onEnter={(metric) => onChange({ metric })}
      />
      {isWide && (
        <Entered
          label="Columns are values of"
          value={choices.wide_name ?? ""}
          hint="place"
          below="empty: each column is a metric"
          onEnter={(wide_name) => onChange({ wide_name })}
        />
      )}
      <label>
        Unit
        <Field
          value={choices.unit ?? preview.unit}
          onChange={(e) => onChange({ unit: e.target.value })}
          placeholder="taps / 15 min"
        />
      </label>
      <label>
        Bad side
        <SelectField
          value={choices.bad_side ?? preview.bad_side}
          onChange={(e) => onChange({ bad_side: e.target.value as Side })}
        >
          <option value="both">above and below</option>
          <option value="above">above</option>
          <option value="below">below</option>
        </SelectField>
      </label>
      <label>
        Equal stamps
        <SelectField
          value={preview.duplicates}
          onChange={(e) => onChange({ duplicates: e.target.value as Rule })}
        >
          {Object.entries(RULES).map(([rule, words]) => (
            <option key={rule} value={rule}>
              {words}
            </option>
          ))}
        </SelectField>
      </label>
      <Entered
        label="Only rows where"
        value={choices.keep ?? ""}
        hint="fare = adult and taps > 0"
        below="empty: all rows"
        onEnter={(keep) => onChange({ keep })}
      />
      <div>
        Cadence
        <strong>every {preview.cadence}</strong>
        <span className="soft small">{figure(preview.cadence_share * 100, 1)} % of the steps</span>
      </div>
    </Group>
  );
}

/** Keep how this file is read, so that the next one of its kind goes in by itself. */
export function KeepLayout({ preview, choices, onChange }: Part) {
  const wish = choices.save_layout;
  const stem = preview.name.replace(/\.[a-z.]+$/i, "").replace(/\d+([-_.]\d+)*/g, "*");
  return (
    <Box component="p" my={6}>
      <label>
        <Checkbox
          size="xs"
          checked={Boolean(wish)}
          onChange={(e) =>
            onChange({
              save_layout: e.target.checked ? { name: stem.replace(/[-_*]+$/, "") || "layout" } : null,
            })
          }
        />{" "}
        Keep this layout
      </label>
      {wish && (
        <>
          {" as "}
          <Field
            className="word"
            aria-label="Name of the layout"
            value={wish.name}
            onChange={(e) => onChange({ save_layout: { ...wish, name: e.target.value } })}
          />
          {" for files called "}
          <Field
            className="word"
            aria-label="Files called"
            placeholder={`like ${preview.name}`}
            value={wish.pattern ?? ""}
            onChange={(e) => onChange({ save_layout: { ...wish, pattern: e.target.value || undefined } })}
          />
        </>
      )}
      <span className="soft small">
        {wish ? " * stands for anything; numbers may differ if left empty" : " for the next file of its kind"}
      </span>
    </Box>
  );
}
