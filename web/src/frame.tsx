import {
  Button,
  Group,
  Modal,
  Popover,
  Radio,
  Stack,
  Switch,
  Table,
  UnstyledButton,
  useMantineColorScheme,
} from "@mantine/core";
import { Spotlight, spotlight } from "@mantine/spotlight";
import frameCss from "./frame.module.css";
import "@mantine/spotlight/styles.css";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useRef, useState } from "react";
import { createPortal } from "react-dom";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api, type Job, list } from "./api/client";
import type { Connection } from "./api/hints";
import { hasLetters, setLetters, useKeys } from "./keys/useKeys";
import { HintsAgain } from "./parts/Hint";
import {
  BenchIcon,
  BoardsIcon,
  CardsIcon,
  DarkIcon,
  IncidentsIcon,
  IntakeIcon,
  LogbookIcon,
  LookoutsIcon,
  PlansIcon,
  ReviewIcon,
  SettingsIcon,
  TideIcon,
} from "./parts/icons";
import { ENDED } from "./parts/jobs";
import { PersonName } from "./parts/person";
import { routesQuery } from "./parts/routes";
import { useStreams } from "./parts/streams";
import { clock, plural } from "./parts/words";
import { BROWSER, fleetZone, hasOwnClock, setOwnClock } from "./parts/zones";

const SCREENS = [
  { to: "/", words: "Tide table", Icon: TideIcon },
  { to: "/incidents", words: "Incidents", Icon: IncidentsIcon },
  { to: "/workbench", words: "Workbench", Icon: BenchIcon },
  { to: "/review", words: "Review", Icon: ReviewIcon },
  { to: "/logbook", words: "Logbook", Icon: LogbookIcon },
  { to: "/scorecards", words: "Scorecards", Icon: CardsIcon },
  { to: "/lookouts", words: "Lookouts", Icon: LookoutsIcon },
  { to: "/boards", words: "Boards", Icon: BoardsIcon },
  { to: "/plans", words: "Plans", Icon: PlansIcon },
  { to: "/intake", words: "Intake", Icon: IntakeIcon },
  { to: "/settings", words: "Settings", Icon: SettingsIcon },
];

/** The page of the guide about a screen, by the first word of its address. */
const GUIDE: Record<string, string> = {
  incidents: "tasks/judge/",
  workbench: "tasks/baseline/",
  review: "tasks/judge/",
  logbook: "tasks/judge/#the-logbook",
  scorecards: "tasks/precision/",
  published: "tasks/precision/",
  lookouts: "tasks/lookout/",
  boards: "tasks/board/",
  look: "tasks/board/",
  plans: "reference/plan/",
  intake: "tasks/bring-in/",
  settings: "tasks/run/",
};

const Bar = createContext<HTMLElement | null>(null);

/** What a screen puts into the thin top bar: where one is, and over which span. */
export function TopBar({ children }: { children: ReactNode }) {
  const place = useContext(Bar);
  // Whatever the heading says is what the window is called.
  useEffect(() => {
    const words = place?.querySelector("h1")?.textContent;
    document.title = words ? `${words} · Watch Tide` : "Watch Tide";
  });
  return place ? createPortal(children, place) : null;
}

interface FrameProps {
  person: string;
  role: string;
  connection: Connection;
  children: ReactNode;
}

export function Frame({ person, role, connection, children }: FrameProps) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  const [hasKeys, setHasKeys] = useState(false);
  const work = useFocusOnNavigation();
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const { pathname } = useLocation();
  const lastStream = sessionStorage.getItem("last-stream");
  useKeys({ "?": () => setHasKeys(true) });
  const isDark =
    colorScheme === "dark" || (colorScheme === "auto" && matchMedia("(prefers-color-scheme: dark)").matches);
  return (
    <Bar.Provider value={place}>
      <a className={frameCss.skip} href="#work">
        Skip to the work
      </a>
      <div className={frameCss.frame}>
        <Stack component="nav" gap={0} className={frameCss.rail} aria-label="Screens">
          <NavLink to="/" className={frameCss.mark} aria-label="Watch Tide, home">
            W·T
          </NavLink>
          {SCREENS.map(({ to, words, Icon }) => (
            <NavLink
              key={to}
              to={to === "/workbench" && lastStream ? `/workbench/${lastStream}` : to}
              end={to === "/"}
            >
              <Icon />
              {words}
            </NavLink>
          ))}
          <span className="filler" />
          <UnstyledButton onClick={() => setColorScheme(isDark ? "light" : "dark")}>
            <DarkIcon />
            {isDark ? "Light" : "Dark"}
          </UnstyledButton>
        </Stack>
        <Group component="header" gap={14} pr={20} pl={16} wrap="nowrap" className={frameCss.bar}>
          <Group
            gap={8}
            flex={1}
            miw={0}
            align="baseline"
            wrap="nowrap"
            className={frameCss.where}
            ref={setPlace}
          />
          <UnstyledButton className={frameCss.tool} onClick={spotlight.open}>
            Search <kbd>Ctrl K</kbd>
          </UnstyledButton>
          <FailingRoute />
          <Live connection={connection} />
          <Jobs />
          <Person name={person} role={role} />
          <UnstyledButton
            component="a"
            className={frameCss.tool}
            href={`/guide/${GUIDE[pathname.split("/")[1] ?? ""] ?? ""}`}
            target="_blank"
            aria-label="This screen in the guide, in a new tab"
            title="This screen in the guide"
          >
            ?
          </UnstyledButton>
        </Group>
        <main className={frameCss.work} id="work" tabIndex={-1} ref={work}>
          <PersonName value={person}>{children}</PersonName>
        </main>
      </div>
      <Modal opened={hasKeys} onClose={() => setHasKeys(false)} title="Keys">
        <KeyList />
        <HintsAgain />
      </Modal>
      <Search />
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
  // Lookouts judge every few minutes; their own page has how that went.
  const listed = jobs.data?.filter((j) => j.kind !== "watch");
  const open = (listed ?? []).filter((j) => !ENDED.includes(j.state));
  const done = open.reduce((sum, j) => sum + (j.total ? (j.done ?? 0) / j.total : 0), 0);
  const cancel = async (job: Job) => {
    await api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: job.id } } });
    client.invalidateQueries({ queryKey: ["jobs"] });
  };
  return (
    <Popover width={380} position="bottom-end">
      <Popover.Target>
        <UnstyledButton className={frameCss.tool} aria-live="polite">
          {open.length
            ? `${plural(open.length, "job")} · ${Math.round((100 * done) / open.length)} %`
            : "No jobs running"}
        </UnstyledButton>
      </Popover.Target>
      <Popover.Dropdown>
        <h2>Jobs</h2>
        {(listed ?? []).slice(0, 8).map((j) => (
          <Group key={j.id} gap={8} py={5} wrap="nowrap" align="flex-start" className="job ruled">
            <div className="filler">
              <div>{j.title}</div>
              <div className="soft small">
                {j.state}
                {j.state === "running" && j.total ? `, ${j.done} of ${j.total}` : ""}
                {j.message ? `: ${j.message}` : ""}
              </div>
            </div>
            {!ENDED.includes(j.state) && (
              <Button onClick={() => cancel(j)} disabled={j.is_cancel_asked}>
                {j.is_cancel_asked ? "Stopping" : "Cancel"}
              </Button>
            )}
          </Group>
        ))}
        {listed?.length === 0 && <p className="soft">Nothing has run yet.</p>}
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
        <UnstyledButton className={frameCss.tool}>
          {name} · {role}
        </UnstyledButton>
      </Popover.Target>
      <Popover.Dropdown>
        <Radio.Group
          label="Times are shown by the clock of"
          value={hasOwnClock() ? "own" : "streams"}
          onChange={(value) => setOwnClock(value === "own")}
        >
          <Radio
            value="streams"
            label={`the streams${hasOwnClock() ? "" : `, ${fleetZone()} where they share one`}`}
          />
          <Radio value="own" label={`this browser, ${BROWSER}`} />
        </Radio.Group>
        <Button onClick={out}>Sign out</Button>
      </Popover.Dropdown>
    </Popover>
  );
}

const KEYS: [string, string][] = [
  ["?", "this list"],
  ["Ctrl K", "find a stream"],
  ["↑ ↓", "tide table: row; workbench score pane: level"],
  ["Enter", "open what is chosen"],
  ["← →", "tide table and workbench: pan, with Shift by all that is in sight; review: undo and skip"],
  ["+ − 0", "tide table and workbench: zoom in, out, all"],
  ["X Esc", "workbench: pin the moment under the pointer (or press there); let go of it"],
  ["N P", "workbench: next and previous finding, opened"],
  ["I F X U", "workbench, review and incidents: incident, foreseen, false alarm (nothing there), unsure"],
  ["Z", "workbench, review and incidents: take the last verdict back"],
  ["C N R", "review: cause, note, the same for the rest of the incident"],
  ["[ ] { }", "review: move the start, the end, by one sample"],
  ["S < >", "review: cut in two, move the cut"],
  ["W", "workbench: write an entry over what is in sight (or drag with Shift held); logbook: write one"],
  ["M L", "review: join the next finding; looked through in full"],
];

function KeyList() {
  const [isOn, setOn] = useState(hasLetters);
  return (
    <>
      <Switch
        label="Single letters act"
        description="Switch them off where letters come by dictation or by accident; everything has a button too."
        checked={isOn}
        onChange={(e) => {
          setLetters(e.currentTarget.checked);
          setOn(e.currentTarget.checked);
        }}
      />
      <Table className="rows">
        <Table.Tbody>
          {KEYS.map(([key, words]) => (
            <Table.Tr key={key}>
              <Table.Td>
                <kbd>{key}</kbd>
              </Table.Td>
              <Table.Td>{words}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </>
  );
}

/** After a change of screen the keyboard and screen readers go on in it, not in the rail. */
function useFocusOnNavigation() {
  const work = useRef<HTMLElement>(null);
  const { pathname } = useLocation();
  const before = useRef(pathname);
  useEffect(() => {
    if (before.current !== pathname) work.current?.focus({ preventScroll: true });
    before.current = pathname;
  }, [pathname]);
  return work;
}

/** A route that keeps failing is shown on every screen until it works again. */
function FailingRoute() {
  const routes = useQuery({ ...routesQuery, refetchInterval: 60_000 });
  const failing = (routes.data ?? []).filter((route) => route.failing_since);
  if (!failing.length) return null;
  return (
    <NavLink to="/lookouts" className="small above">
      {failing.length === 1 ? `Route ${failing[0]?.name} fails` : `${failing.length} routes fail`}
    </NavLink>
  );
}

/** Says so when what happens on the server no longer shows by itself. */
function Live({ connection }: { connection: Connection }) {
  return (
    <span role="status" className="small above">
      {connection.isOpen ? "" : `No live updates since ${clock(connection.since, fleetZone())}; trying again`}
    </span>
  );
}

const MOST_FOUND = 12;

function Search() {
  const [text, setText] = useState("");
  const navigate = useNavigate();
  // Only once somebody searches.
  const [isOpen, setOpen] = useState(false);
  const tide = useStreams(text, { count: MOST_FOUND, isAsked: isOpen });
  const found = tide.data?.rows ?? [];
  return (
    <Spotlight.Root
      query={text}
      onQueryChange={setText}
      onSpotlightOpen={() => setOpen(true)}
      shortcut="mod + K"
    >
      <Spotlight.Search aria-label="Name or attribute" placeholder="gate_taps Northquay adult" />
      <Spotlight.ActionsList>
        {found.map((r, i) => (
          <Spotlight.Action
            key={r.id}
            // Typing chooses the first; so does the coming of streams after it.
            data-selected={(text !== "" && i === 0) || undefined}
            onClick={() => navigate(`/workbench/${r.id}`)}
          >
            <strong>{r.title}</strong>&nbsp;<span className="soft">{r.metric}</span>
          </Spotlight.Action>
        ))}
        {found.length === 0 && (
          <Spotlight.Empty>
            {tide.isPending ? "Reading the streams." : "No stream has all these words."}
          </Spotlight.Empty>
        )}
      </Spotlight.ActionsList>
    </Spotlight.Root>
  );
}
