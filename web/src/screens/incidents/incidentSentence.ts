import type { Incident } from "../../api/client";
import { dayTime, duration, figure, plural, zoneName } from "../../parts/words";
import { scopeWords } from "./words";

/** When it began, how long it lasted, over what, and what is known of it. */
export function sentence(incident: Incident): string {
  if (incident.start === null || incident.end === null) return "";
  const began = `${dayTime(incident.start, incident.zone)} ${zoneName(incident.start, incident.zone)}`;
  const lasted =
    incident.end > incident.start ? ` for ${duration((incident.end - incident.start) / 1000)}` : "";
  const top = incident.members.find((f) => f.id === incident.finding);
  const size = top ? `; up to ${figure(top.score, 1)} σ, on ${top.title}` : "";
  const common = incident.shared.map((pair) => pair.replace("=", " ")).join(", ");
  const shared = common ? ` All have ${common}.` : "";
  const name = new Map(incident.members.map((f) => [f.stream, `${f.metric} ${f.title}`]));
  const targets = [...new Set(incident.fed_by.map(([to]) => to ?? 0))];
  const fed =
    targets.length > 1
      ? `${name.get(targets[0] ?? 0)} and ${plural(targets.length - 1, "other")} are fed by others of them`
      : targets.length
        ? `${name.get(targets[0] ?? 0)} is fed by others of them`
        : "";
  return `${scopeWords(incident).replace(" · ", " of ")}, from ${began}${lasted}${size}.${shared}${fed ? ` ${fed}.` : ""}`;
}
