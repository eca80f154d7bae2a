import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { type Choices, Problem, type Schema } from "../api/client";
import { aPreview, show } from "../test/helper";
import { serve } from "../test/serve";
import { Batches } from "./intake/Batches";
import Calendars from "./intake/Calendars";
import { Facts, KeepLayout } from "./intake/Facts";
import { Feeds } from "./intake/Feeds";
import Formulas from "./intake/Formulas";
import { Look } from "./intake/Look";
import { RowsAre, Written } from "./intake/Sentences";
import { Storing } from "./intake/Storing";
import Streams from "./intake/Streams";
import { Tokens } from "./settings/Tokens";

beforeEach(() => {
  vi.restoreAllMocks();
});

const person = () => userEvent.setup();

function aStream(changes: Partial<Schema["CatalogueStream"]> = {}): Schema["CatalogueStream"] {
  return {
    id: 7,
    etag: '"e"',
    metric: "gate_taps",
    key: "metric=gate_taps,place=Northquay",
    title: "Northquay",
    title_given: "",
    attributes: [["place", "Northquay"]],
    family: "",
    unit: "taps / 15 min",
    zone: "Europe/Dublin",
    bad_side: "both",
    owner: "",
    runbook: "",
    kind: "samples",
    fed_by: [],
    covariates: [],
    denominator: null,
    retention_days: null,
    cadence: "15m",
    first: 0,
    last: Date.UTC(2026, 7, 22, 8, 15),
    samples: 10_752,
    lateness_s: 95,
    ...changes,
  };
}

function aFeed(changes: Partial<Schema["Feed"]> = {}): Schema["Feed"] {
  return {
    id: 3,
    etag: '"e"',
    name: "Ticket office",
    kind: "metrics",
    url: "http://127.0.0.1:9100/metrics",
    every_s: 60,
    timeout_s: 10,
    attributes: {},
    zone: "UTC",
    is_on: true,
    next_at: Date.UTC(2026, 7, 22, 9, 16),
    last_at: Date.UTC(2026, 7, 22, 9, 15),
    last_status: "4 samples",
    last_samples: 4,
    is_fine: true,
    failures: 0,
    ...changes,
  };
}

describe("how a file is written, as a sentence", () => {
  it("changes one word and leaves the others", async () => {
    const onChange = vi.fn();
    show(<Written preview={aPreview()} onChange={onChange} />);
    await person().selectOptions(screen.getByLabelText("Delimiter"), "semicolons");
    expect(onChange).toHaveBeenLastCalledWith({ delimiter: ";" });
    await person().selectOptions(screen.getByLabelText("Decimal mark"), "comma");
    expect(onChange).toHaveBeenLastCalledWith({ decimal: "," });
    await person().selectOptions(screen.getByLabelText("Header"), "a row already");
    expect(onChange).toHaveBeenLastCalledWith({ has_header: false, roles: undefined });
  });

  it("says why a text was taken for Windows text", () => {
    const shape = {
      ...aPreview().shape,
      encoding: "cp1252",
      reasons: { encoding: "Windows text (cp1252), because line 4" },
    };
    show(<Written preview={aPreview({ shape })} onChange={() => undefined} />);
    expect(screen.getByText(/because line 4/)).toBeTruthy();
  });

  it("shows a log's pattern and takes another on Enter", async () => {
    const onChange = vi.fn();
    const shape = { ...aPreview().shape, kind: "log", pattern: "(?P<time>.)" };
    show(<Written preview={aPreview({ shape })} onChange={onChange} />);
    const field = screen.getByLabelText("Pattern of a line");
    await person().type(field, "x{Enter}");
    expect(onChange).toHaveBeenLastCalledWith({ pattern: "(?P<time>.)x" });
  });
});

describe("rows that are events", () => {
  const rollup: Choices = { rollup: { every: "5m", measures: [{ how: "count" }] } };

  it("become events with a count", async () => {
    const onChange = vi.fn();
    show(<RowsAre preview={aPreview()} choices={{}} onChange={onChange} />);
    await person().selectOptions(screen.getByLabelText("What a row is"), "an event");
    expect(onChange).toHaveBeenLastCalledWith({
      rollup: { every: "5m", measures: [{ how: "count" }] },
      roles: undefined,
    });
  });

  it("get another figure, of a column of numbers", async () => {
    const onChange = vi.fn();
    show(<RowsAre preview={aPreview()} choices={rollup} onChange={onChange} />);
    await person().click(screen.getByText("and another figure"));
    expect(onChange.mock.lastCall?.[0].rollup.measures).toEqual([
      { how: "count" },
      { how: "p95", field: "taps" },
    ]);
  });

  it("take another interval when the field is left", async () => {
    const onChange = vi.fn();
    show(<RowsAre preview={aPreview()} choices={rollup} onChange={onChange} />);
    const field = screen.getByLabelText("Interval");
    await person().clear(field);
    await person().type(field, "1h{Enter}");
    expect(onChange.mock.lastCall?.[0].rollup.every).toBe("1h");
  });

  it("lose a figure again", async () => {
    const onChange = vi.fn();
    const two: Choices = {
      rollup: { every: "5m", measures: [{ how: "count" }, { how: "max", field: "taps" }] },
    };
    show(<RowsAre preview={aPreview()} choices={two} onChange={onChange} />);
    await person().click(screen.getByLabelText("Leave measure 1 out"));
    expect(onChange.mock.lastCall?.[0].rollup.measures).toEqual([{ how: "max", field: "taps" }]);
  });
});

describe("what holds for the whole file", () => {
  it("sends the condition, the rule for equal stamps, and the unit", async () => {
    const onChange = vi.fn();
    show(<Facts preview={aPreview()} choices={{}} onChange={onChange} />);
    await person().type(screen.getByLabelText("Only rows where"), "fare = adult{Enter}");
    expect(onChange).toHaveBeenLastCalledWith({ keep: "fare = adult" });
    await person().selectOptions(screen.getByLabelText("Equal stamps"), "keep the last");
    expect(onChange).toHaveBeenLastCalledWith({ duplicates: "last" });
  });

  it("offers the attribute of wide columns only where there are several values", () => {
    const wide = aPreview();
    wide.columns[1] = { ...wide.columns[1], role: "value" } as (typeof wide.columns)[number];
    const { unmount } = show(<Facts preview={wide} choices={{}} onChange={() => undefined} />);
    expect(screen.getByLabelText("Columns are values of")).toBeTruthy();
    unmount();
    show(<Facts preview={aPreview()} choices={{}} onChange={() => undefined} />);
    expect(screen.queryByLabelText("Columns are values of")).toBeNull();
  });

  it("keeps the layout under a name made of the file's", async () => {
    const onChange = vi.fn();
    show(<KeepLayout preview={aPreview({ name: "taps_2026-08.csv" })} choices={{}} onChange={onChange} />);
    await person().click(screen.getByRole("checkbox"));
    expect(onChange).toHaveBeenLastCalledWith({ save_layout: { name: "taps" } });
  });
});

describe("a file looked through", () => {
  const preview = "POST /api/v1/uploads/{id}/preview";

  it("says that only a part was looked at", async () => {
    serve({ [preview]: () => aPreview({ is_whole: false, rows: 1_000, about_rows: 5_000_000 }) });
    show(<Look upload={1} onAnother={() => undefined} />);
    expect(await screen.findByText(/first 1,000 of about 5,000,000 rows/)).toBeTruthy();
    expect(screen.getByText("Store the file and scan")).toBeTruthy();
  });

  it("names the kept layout and can guess anew", async () => {
    const calls = serve({ [preview]: () => aPreview({ kept: { id: 2, name: "taps monthly" } }) });
    show(<Look upload={1} onAnother={() => undefined} />);
    expect(await screen.findByText("taps monthly")).toBeTruthy();
    await person().click(screen.getByText("Guess anew instead"));
    await waitFor(() => expect(calls.at(-1)?.body).toMatchObject({ kept: 0 }));
  });

  it("does not look again for a unit", async () => {
    const calls = serve({ [preview]: () => aPreview() });
    show(<Look upload={1} onAnother={() => undefined} />);
    await person().type(await screen.findByLabelText("Unit"), "taps");
    expect(calls.filter((c) => c.path.endsWith("/preview"))).toHaveLength(1);
  });

  it("asks for a pattern where a log needs one", async () => {
    const calls = serve({
      [preview]: () => {
        throw new Problem(400, "a log needs a pattern that names its fields", "x.log", "write one");
      },
    });
    show(<Look upload={1} onAnother={() => undefined} />);
    await person().type(await screen.findByPlaceholderText(/time/), "abc");
    await person().click(screen.getByText("Read by this pattern"));
    await waitFor(() => expect(calls.at(-1)?.body).toMatchObject({ pattern: "abc" }));
  });
});

describe("storing", () => {
  it("tells how far it is and can be stopped", async () => {
    const calls = serve({
      "GET /api/v1/jobs/{id}": () => ({ id: 5, state: "running", done: 30, total: 120, result: {} }),
      "DELETE /api/v1/jobs/{id}": () => ({}),
    });
    show(<Storing job={5} onAnother={() => undefined} />);
    expect(await screen.findByText(/25 %/)).toBeTruthy();
    await person().click(screen.getByText("Cancel"));
    await waitFor(() => expect(calls.map((call) => call.method)).toContain("DELETE"));
  });
});

describe("batches", () => {
  const batch = {
    id: 4,
    source: "taps.csv",
    door: "file",
    rows_taken: 100,
    rows_aside: 2,
    rows_dropped: 0,
    streams: 2,
    samples: 100,
    created_by: "ann",
    accepted_at: Date.parse("2026-08-22T09:15:00Z"),
    undone_at: null,
    can_undo: true,
  };

  it("are undone only after a second question", async () => {
    const calls = serve({
      "GET /api/v1/batches": () => [batch],
      "POST /api/v1/batches/{id}/undo": () => ({ id: 9, state: "queued" }),
      "GET /api/v1/jobs/{id}": () => ({ id: 9, state: "done", result: {} }),
    });
    show(<Batches />);
    await person().click(await screen.findByLabelText("Undo taps.csv"));
    expect(calls.filter((c) => c.method === "POST")).toHaveLength(0);
    await person().click(screen.getByText("Yes, undo"));
    expect(await screen.findByText(/is taken back: 100 samples went/)).toBeTruthy();
  });

  it("that are undone or too old offer nothing", async () => {
    serve({
      "GET /api/v1/batches": () => [
        { ...batch, undone_at: Date.parse("2026-08-22T10:00:00Z") },
        { ...batch, id: 5, source: "old.csv", can_undo: false },
      ],
    });
    show(<Batches />);
    await screen.findByText("old.csv");
    expect(screen.queryByText("Undo")).toBeNull();
    expect(screen.getByText(/^undone/)).toBeTruthy();
  });
});

describe("feeds", () => {
  it("show a failure in words, with how often, and not by colour alone", async () => {
    serve({
      "GET /api/v1/feeds": () => [aFeed({ is_fine: false, failures: 3, last_status: "answered 500" })],
    });
    show(<Feeds />);
    expect(await screen.findByText(/failed 3×/)).toBeTruthy();
    expect(screen.getByText("answered 500")).toBeTruthy();
  });

  it("are fetched at once, turned off and removed", async () => {
    const calls = serve({
      "GET /api/v1/feeds": () => [aFeed()],
      "POST /api/v1/feeds/{id}/pull": () => aFeed({ last_status: "9 samples" }),
      "PATCH /api/v1/feeds/{id}": () => aFeed({ is_on: false }),
      "DELETE /api/v1/feeds/{id}": () => undefined,
    });
    show(<Feeds />);
    await person().click(await screen.findByLabelText("Fetch Ticket office now"));
    expect(await screen.findByText("Ticket office: 9 samples")).toBeTruthy();
    await person().click(screen.getByLabelText("Turn Ticket office off"));
    const patch = calls.find((c) => c.method === "PATCH");
    expect(patch?.body).toEqual({ is_on: false });
    // Only what was read is changed: somebody else may have been here meanwhile.
    expect(patch?.headers).toEqual({ "If-Match": '"e"' });
    await person().click(screen.getByLabelText("Remove Ticket office"));
    expect(await screen.findByText(/what it brought stays/)).toBeTruthy();
  });

  it("that are refused keep the form and say why", async () => {
    serve({
      "GET /api/v1/feeds": () => [],
      "POST /api/v1/feeds": () => {
        throw new Problem(400, "10.0.0.1 is not allowed", "url", "an admin can add it");
      },
    });
    show(<Feeds />);
    await person().click(await screen.findByText("Add a feed"));
    const form = within(screen.getByLabelText("New feed"));
    await person().type(form.getByLabelText("Name"), "inside");
    await person().type(form.getByLabelText("Address"), "http://10.0.0.1/");
    await person().click(form.getByText("Add"));
    expect(await screen.findByText("10.0.0.1 is not allowed")).toBeTruthy();
    expect(screen.getByLabelText("New feed")).toBeTruthy();
  });
});

describe("tokens", () => {
  it("show their text once, and send the scopes that were ticked", async () => {
    const calls = serve({
      "GET /api/v1/tokens": () => [],
      "POST /api/v1/tokens": () => ({
        id: 1,
        name: "loader",
        text: "wt_secret",
        scopes: ["push"],
        hint: "wt_se",
      }),
    });
    show(<Tokens />);
    await person().type(screen.getByLabelText(/Name of a new token/), "loader");
    await person().click(screen.getByLabelText("read"));
    await person().click(screen.getByText("Make a token"));
    expect(await screen.findByText("wt_secret")).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      name: "loader",
      scopes: ["push", "read"],
      days: 90,
    });
  });
});

describe("the catalogue", () => {
  const list = (streams = [aStream()]) => ({ total: streams.length, next: null, items: streams });

  it("shows a stream's facts with units and says what is not known", async () => {
    serve({
      "GET /api/v1/catalogue": () => list([aStream(), aStream({ id: 8, title: "Pier", lateness_s: null })]),
    });
    show(<Streams />);
    expect(await screen.findByText("95 s")).toBeTruthy();
    expect(screen.getByText("–")).toBeTruthy();
    expect(screen.getAllByText("10,752")).toHaveLength(2);
  });

  it("saves changed facts as the interface wants them", async () => {
    const calls = serve({
      "GET /api/v1/catalogue": () => list(),
      "PATCH /api/v1/streams/{id}/facts": () => aStream({ owner: "M. Rask" }),
    });
    show(<Streams />);
    await person().click(await screen.findByText("Northquay"));
    await person().type(screen.getByLabelText("Owner"), "M. Rask");
    await person().type(screen.getByLabelText("Fed by (numbers of streams)"), "4 9");
    await person().click(screen.getByText("Save"));
    expect(await screen.findByText("Northquay is changed.")).toBeTruthy();
    expect(calls.find((c) => c.method === "PATCH")?.body).toMatchObject({
      owner: "M. Rask",
      fed_by: [4, 9],
      attributes: [["place", "Northquay"]],
      retention_days: null,
    });
  });

  it("tries retention dry and deletes only by the key", async () => {
    const calls = serve({
      "GET /api/v1/catalogue": () => list(),
      "GET /api/v1/streams/{id}/retention": () => ({
        days: 30,
        samples: 400,
        before: "2026-07-23T00:00:00Z",
      }),
      "DELETE /api/v1/streams/{id}/facts": () => ({ id: 9, state: "queued" }),
      "GET /api/v1/jobs/{id}": () => ({ id: 9, state: "done", result: {} }),
    });
    show(<Streams />);
    await person().click(await screen.findByText("Northquay"));
    await person().type(screen.getByLabelText(/Keep samples for/), "30");
    expect(await screen.findByText("would drop 400 samples from before 2026-07-23")).toBeTruthy();
    await person().click(screen.getByText("Delete this stream"));
    const sure = screen.getByRole("button", { name: "Delete for good" }) as HTMLButtonElement;
    expect(sure.disabled).toBe(true);
    await person().type(screen.getByLabelText(/Repeat its key/), "metric=gate_taps,place=Northquay");
    await person().click(sure);
    expect(calls.find((c) => c.method === "DELETE")?.body).toEqual({
      confirm: "metric=gate_taps,place=Northquay",
    });
  });

  it("says what to do when nothing is there", async () => {
    serve({ "GET /api/v1/catalogue": () => list([]) });
    show(<Streams />);
    expect(await screen.findByText(/Bring in a file, or push some/)).toBeTruthy();
  });
});

describe("formulas and calendars", () => {
  it("send a formula with its attributes and tell how many streams come of it", async () => {
    const calls = serve({
      "GET /api/v1/formulas": () => [],
      "POST /api/v1/formulas": () => ({ streams: 6, formula: {}, job: {} }),
    });
    show(<Formulas />);
    await person().type(screen.getByLabelText("Name of the result"), "share");
    await person().type(screen.getByLabelText("Formula"), "[[a] / [[b]");
    await person().type(screen.getByLabelText(/One for each/), "place, fare");
    await person().click(screen.getByText("Compute"));
    expect(await screen.findByText("share: 6 streams, being computed.")).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toMatchObject({
      formula: "[a] / [b]",
      by: ["place", "fare"],
      every: null,
    });
  });

  it("show what keeps a formula from being computed", async () => {
    const broken = {
      id: 1,
      metric: "x",
      formula: "[gone]",
      by: [],
      unit: "",
      message: "no stream is [gone]",
      renewed_at: null,
    };
    serve({ "GET /api/v1/formulas": () => [broken] });
    show(<Formulas />);
    expect(await screen.findByText("no stream is [gone]")).toBeTruthy();
    expect(screen.getByText("being computed")).toBeTruthy();
  });

  it("list known days by calendar", async () => {
    serve({
      "GET /api/v1/calendars": () => [
        { id: 1, name: "harbour", zone: "UTC", events: 4, updated_at: Date.parse("2026-08-01T00:00:00Z") },
      ],
      "GET /api/v1/calendars/days": () => [
        {
          calendar: "harbour",
          name: "Market",
          start: Date.UTC(2026, 7, 15),
          stop: 0,
          is_all_day: true,
          place: "",
        },
      ],
    });
    show(<Calendars />);
    expect(await screen.findByText("Market")).toBeTruthy();
    expect(screen.getByLabelText("Remove harbour")).toBeTruthy();
  });
});
