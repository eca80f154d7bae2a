import { keepPreviousData, useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { FilterField } from "../../parts/FilterField";
import { dayTime, figure, plural } from "../../parts/words";
import { StreamFacts } from "./StreamFacts";
import { Tabs } from "./Tabs";
import "./intake.css";

/** The catalogue: find a stream by name and attribute, see what is known of it, change or delete it. */
export default function Streams() {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [told, setTold] = useState("");
  const q = params.get("q") ?? "";
  const open = Number(params.get("open")) || null;
  const found = useInfiniteQuery({
    queryKey: ["catalogue", q],
    queryFn: ({ pageParam }) =>
      get(
        api.GET("/api/v1/catalogue", {
          params: { query: { q: q || undefined, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const done = (words: string) => {
    setTold(words);
    client.invalidateQueries({ queryKey: ["catalogue"] });
    client.invalidateQueries({ queryKey: ["tide"] });
  };
  const rows = found.data?.pages.flatMap((p) => p.items) ?? [];
  const total = found.data?.pages[0]?.total ?? 0;
  return (
    <div className="padded intake">
      <TopBar>
        <h1>Intake</h1>
        <span className="soft">{plural(total, "stream")}</span>
      </TopBar>
      <Tabs />
      <div className="tools">
        <FilterField
          label="Find streams"
          hint="gate_taps fare=adult"
          value={q}
          onChange={(text) => set("q", text)}
        />
        <span className="soft small">words of the name, owner or family; name=value for an attribute</span>
      </div>
      {told && <p role="status">{told}</p>}
      {found.isPending && <Waiting what="Looking the streams up" />}
      {found.isError && <Trouble error={found.error} retry={() => found.refetch()} />}
      {found.data && rows.length === 0 && (
        <p className="soft">
          {q ? "No stream is called that." : "There are no streams yet. Bring in a file, or push some."}
        </p>
      )}
      {rows.length > 0 && (
        <table className="rows">
          <thead>
            <tr>
              <th>stream</th>
              <th>metric</th>
              <th>unit</th>
              <th className="figure">every</th>
              <th className="figure">samples</th>
              <th>latest</th>
              <th className="figure">usually late by</th>
              <th>owner</th>
              <th>
                <span className="visually-hidden">open</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((s) => (
              <Fragment key={s.id}>
                <tr>
                  <td>
                    <button
                      type="button"
                      className="word"
                      aria-expanded={open === s.id}
                      onClick={() => set("open", open === s.id ? "" : String(s.id))}
                    >
                      {s.title}
                    </button>
                  </td>
                  <td className="soft">{s.metric}</td>
                  <td>{s.unit}</td>
                  <td className="figure">{s.cadence || "–"}</td>
                  <td className="figure">{figure(s.samples)}</td>
                  <td className="soft">{s.last === null ? "none yet" : dayTime(s.last, s.zone ?? "UTC")}</td>
                  <td className="figure">{late(s.lateness_s)}</td>
                  <td>{s.owner}</td>
                  <td>
                    <Link
                      className="act"
                      to={`/workbench/${s.id}`}
                      aria-label={`Open ${s.title} in the workbench`}
                    >
                      Open
                    </Link>
                  </td>
                </tr>
                {open === s.id && (
                  <tr>
                    <td colSpan={9}>
                      <StreamFacts stream={s} onDone={done} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      )}
      {found.hasNextPage && (
        <p>
          <button type="button" className="act" onClick={() => found.fetchNextPage()}>
            Show more of the {figure(total)}
          </button>
        </p>
      )}
    </div>
  );
}

function late(s: number | null): string {
  if (s === null) return "–";
  return s < 120 ? `${figure(s, 0)} s` : s < 7200 ? `${figure(s / 60, 0)} min` : `${figure(s / 3600, 1)} h`;
}
