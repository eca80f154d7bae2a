import { Whisker } from "../../parts/marks";
import { ratio } from "../../parts/words";
import type { Cut } from "./figures";

export function monthWords(name: string): string {
  const [year, month] = name.split("-").map(Number);
  return new Date(Date.UTC(year ?? 1970, (month ?? 1) - 1)).toLocaleDateString("en-GB", {
    month: "short",
    year: "numeric",
    timeZone: "UTC",
  });
}

/** Precision and recall month by month. */
export function Months({ months }: { months: Cut[] }) {
  const told = months.filter((m) => m.precision !== null || m.recall !== null);
  return (
    <section aria-label="Over time">
      <h2>
        Over time <span className="soft small plain">by the month a finding or an incident begins in</span>
      </h2>
      {told.length === 0 ? (
        <p className="soft">No month has anything to count.</p>
      ) : (
        <table className="rows">
          <thead>
            <tr>
              <th>month</th>
              <th>precision</th>
              <th>recall</th>
            </tr>
          </thead>
          <tbody>
            {told.map((m) => (
              <tr key={m.name}>
                <td style={{ whiteSpace: "nowrap" }}>{monthWords(m.name)}</td>
                <td className="small">
                  <Whisker
                    value={m.precision}
                    low={m.precision_ci?.[0] ?? null}
                    high={m.precision_ci?.[1] ?? null}
                  />{" "}
                  {ratio(m.precision)} <span className="soft">of {m.tp_findings + m.fp_findings}</span>
                </td>
                <td className="figure small">
                  {ratio(m.recall)} <span className="soft">of {m.tp_labels + m.fn_labels}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
