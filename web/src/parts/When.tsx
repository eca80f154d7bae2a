import { Group } from "@mantine/core";
import { DateInput, TimeInput } from "@mantine/dates";
import "@mantine/dates/styles.css";
import { localDay, localMs, localTime } from "./clock";

const MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const two = (n: number) => String(n).padStart(2, "0");

/** A day as people write it, as "2026-05-01": so, or 1 May 2026, or 1 May of this year; null where it is none. */
export function dayOfText(text: string, year = new Date().getFullYear()): string | null {
  const found = /^(\d{1,2})\.?\s+([a-z]{3})[a-z]*\.?(?:\s+(\d{4}))?$/i.exec(text.trim());
  const month = found ? MONTHS.indexOf((found[2] ?? "").toLowerCase()) : -1;
  const iso =
    found && month >= 0 ? `${found[3] ?? year}-${two(month + 1)}-${two(Number(found[1]))}` : text.trim();
  return /^\d{4}-\d{2}-\d{2}$/.test(iso) && localMs(iso, "UTC") !== null ? iso : null;
}

interface DayProps {
  label: string;
  /** "2026-05-01", or empty. */
  value: string;
  onChange: (day: string) => void;
  hint?: string;
}

/** A day, written or taken from a calendar. */
export function DayField({ label, value, onChange, hint = "any day" }: DayProps) {
  return (
    <DateInput
      aria-label={label}
      placeholder={hint}
      variant="unstyled"
      classNames={{ root: "control day-field", input: "word" }}
      valueFormat="D MMM YYYY"
      firstDayOfWeek={1}
      dateParser={(text) => dayOfText(text) ?? null}
      value={value || null}
      onChange={(day) => onChange(day ?? "")}
    />
  );
}

interface MomentProps {
  label: string;
  /** Milliseconds since 1970, or null. */
  value: number | null;
  zone: string;
  onChange: (ms: number | null) => void;
}

/** A day and a time by the clock of a zone. */
export function MomentField({ label, value, zone, onChange }: MomentProps) {
  const day = value === null ? "" : localDay(value, zone);
  const time = value === null ? "" : localTime(value, zone).slice(11);
  const take = (newDay: string, newTime: string) =>
    onChange(newDay ? localMs(`${newDay} ${newTime || "00:00"}`, zone) : null);
  return (
    <Group component="span" gap={6} wrap="nowrap" display="inline-flex">
      <DayField label={`${label}, day`} value={day} onChange={(d) => take(d, time)} hint="day" />
      <TimeInput
        aria-label={`${label}, time`}
        variant="unstyled"
        classNames={{ root: "control", input: "word" }}
        withSeconds={time.length > 5}
        value={time}
        disabled={!day}
        onChange={(e) => take(day, e.currentTarget.value)}
      />
    </Group>
  );
}
