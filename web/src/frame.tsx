import { Modal, Popover, useMantineColorScheme } from "@mantine/core";
import {
  IconAdjustmentsHorizontal,
  IconBook2,
  IconChartDots,
  IconChartLine,
  IconDownload,
  IconFlag3,
  IconMoon,
  IconRipple,
} from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import { createPortal } from "react-dom";
import { NavLink, useNavigate } from "react-router";
import { api, type Job, list } from "./api/client";
import { useKeys } from "./keys/useKeys";
import { PersonName } from "./parts/person";
import { hasWords, useStreams } from "./parts/streams";
import { plural } from "./parts/words";

const SCREENS = [
  { to: "/", words: "Tide table", Icon: IconRipple },
  { to: "/workbench", words: "Workbench", Icon: IconChartLine },
  { to: "/review", words: "Review", Icon: IconFlag3 },
  { to: "/logbook", words: "Logbook", Icon: IconBook2 },
  { to: "/scorecards", words: "Scorecards", Icon: IconChartDots },
  { to: "/intake", words: "Intake", Icon: IconDownload },
  { to: "/settings", words: "Settings", Icon: IconAdjustmentsHorizontal },
];

const Bar = createContext<HTMLElement | null>(null);

/** What a screen puts into the thin top bar: where one is, and over which span. */
export function TopBar({ children }: { children: ReactNode }) {
  const place = useContext(Bar);
  return place ? createPortal(children, place) : null;
}

export function Frame({ person, role, children }: { person: string; role: string; children: ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  const [asking, setAsking] = useState<"keys" | "search" | null>(null);
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const lastStream = sessionStorage.getItem("last-stream");
  useKeys({ "?": () => setAsking("keys") });
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setAsking("search");
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  const isDark =
    colorScheme === "dark" || (colorScheme === "auto" && matchMedia("(prefers-color-scheme: dark)").matches);
  return (
    <Bar.Provider value={place}>
      <div className="frame">
        <nav className="rail" aria-label="Screens">
          <NavLink to="/" className="mark" aria-label="Watch Tide, home">
            W·T
          </NavLink>
          {SCREENS.map(({ to, words, Icon }) => (
            <NavLink
              key={to}
              to={to === "/workbench" && lastStream ? `/workbench/${lastStream}` : to}
              end={to === "/"}
            >
              <Icon size={21} stroke={1.5} aria-hidden="true" />
              {words}
            </NavLink>
          ))}
          <span style={{ flex: 1 }} />
          <button type="button" onClick={() => setColorScheme(isDark ? "light" : "dark")}>
            <IconMoon size={18} stroke={1.5} aria-hidden="true" />
            {isDark ? "Light" : "Dark"}
          </button>
        </nav>
        <header className="bar">
          <div className="where" ref={setPlace} />
          <button type="button" className="tool" onClick={() => setAsking("search")}>
            Search <kbd>Ctrl K</kbd>
          </button>
          <Jobs />
          <Person name={person} role={role} />
        </header>
        <main className="work">
          <PersonName value={person}>{children}</PersonName>
        </main>
      </div>
      <Modal opened={asking === "keys"} onClose={() => setAsking(null)} title="Keys">
        <KeyList />
      </Modal>
      <Modal opened={asking === "search"} onClose={() => setAsking(null)} title="Find a stream">
        <Search onDone={() => setAsking(null)} />
      </Modal>
    </Bar.Provider>
  );
}

function Jobs() {
  const client = useQueryClient();
  const jobs = useQuery({
    queryKey: ["jobs"],
    queryFn: () => list(api.GET("/api/v1/jobs")),
    // Hints tell of progress; this is for a connection that was lost unnoticed.
    refetchInterval: 15_000,
  });
  const open = (jobs.data ?? []).filter((j) => j.state === "queued" || j.state === "running");
  const done = open.reduce((sum, j) => sum + (j.total ? (j.done ?? 0) / j.total : 0), 0);
  const cancel = async (job: Job) => {
    await api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: job.id } } });
    client.invalidateQueries({ queryKey: ["jobs"] });
  };
  return (
    <Popover width={380} position="bottom-end">
      <Popover.Target>
        <button type="button" className="tool" aria-live="polite">
          {open.length
            ? `${plural(open.length, "job")} · ${Math.round((100 * done) / open.length)} %`
            : "No jobs running"}
        </button>
      </Popover.Target>
      <Popover.Dropdown>
        <h2>Jobs</h2>
        {(jobs.data ?? []).slice(0, 8).map((j) => (
          <div
            key={j.id}
            style={{ display: "flex", gap: 8, padding: "5px 0", borderTop: "1px solid var(--hair)" }}
          >
            <div style={{ flex: 1, minWidth: 0 }}>
              <div>{j.title}</div>
              <div className="soft small">
                {j.state}
                {j.state === "running" && j.total ? `, ${j.done} of ${j.total}` : ""}
                {j.message ? `: ${j.message}` : ""}
              </div>
            </div>
            {(j.state === "running" || j.state === "queued") && (
              <button type="button" className="act" onClick={() => cancel(j)} disabled={j.is_cancel_asked}>
                {j.is_cancel_asked ? "Stopping" : "Cancel"}
              </button>
            )}
          </div>
        ))}
        {jobs.data?.length === 0 && <p className="soft">Nothing has run yet.</p>}
      </Popover.Dropdown>
    </Popover>
  );
}

function Person({ name, role }: { name: string; role: string }) {
  const client = useQueryClient();
  const out = async () => {
    await api.DELETE("/api/v1/session");
    client.clear();
    window.location.assign("/");
  };
  return (
    <Popover position="bottom-end">
      <Popover.Target>
        <button type="button" className="tool">
          {name} · {role}
        </button>
      </Popover.Target>
      <Popover.Dropdown>
        <button type="button" className="act" onClick={out}>
          Sign out
        </button>
      </Popover.Dropdown>
    </Popover>
  );
}

const KEYS: [string, string][] = [
  ["?", "this list"],
  ["Ctrl K", "find a stream"],
  ["↑ ↓", "tide table: row; workbench score pane: level"],
  ["Enter", "open what is chosen"],
  ["← →", "tide table and workbench: pan; review: undo and skip"],
  ["+ − 0", "tide table and workbench: zoom in, out, all"],
  ["N P", "workbench: next and previous finding"],
  ["I F X U", "review and incidents: incident, foreseen, false alarm (nothing there), unsure"],
  ["Z", "review and incidents: take the last verdict back"],
  ["C N R", "review: cause, note, the same for the rest of the incident"],
  ["[ ] { }", "review: move the start, the end, by one sample"],
  ["S < >", "review: cut in two, move the cut"],
  ["W", "workbench: write an entry over what is in sight (or drag with Shift held); logbook: write one"],
  ["M L", "review: join the next finding; looked through in full"],
];

function KeyList() {
  return (
    <table className="rows">
      <tbody>
        {KEYS.map(([key, words]) => (
          <tr key={key}>
            <td>
              <kbd>{key}</kbd>
            </td>
            <td>{words}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Search({ onDone }: { onDone: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const tide = useStreams();
  const found = useMemo(
    () => (tide.data?.rows ?? []).filter((r) => hasWords(r, text)).slice(0, 12),
    [tide.data, text],
  );
  const open = (id: number) => {
    onDone();
    navigate(`/workbench/${id}`);
  };
  return (
    <div>
      <input
        className="field"
        style={{ width: "100%" }}
        data-autofocus
        aria-label="Name or attribute"
        placeholder="gate_taps Northquay adult"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(at + 1, found.length - 1));
          if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
          const row = found[at];
          if (e.key === "Enter" && row) open(row.id);
        }}
      />
      {found.map((r, i) => (
        <button
          key={r.id}
          type="button"
          onClick={() => open(r.id)}
          style={{
            display: "block",
            width: "100%",
            textAlign: "left",
            border: 0,
            padding: "6px 8px",
            font: "inherit",
            color: "inherit",
            cursor: "pointer",
            background: i === at ? "var(--select)" : "none",
          }}
        >
          <strong>{r.title}</strong> <span className="soft">{r.metric}</span>
        </button>
      ))}
      {found.length === 0 && <p className="soft">No stream has all these words.</p>}
    </div>
  );
}
