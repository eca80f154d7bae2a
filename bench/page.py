"""Times in the real browser, on a server of its own: streams of 20,000 and 1,000,000 samples, and a table of 1,000."""

import os
import socket
import tempfile
from typing import Any

import numpy as np

from bench import browser
from watchtide.server import supervise

RUNS = 30
NAME = "watchtide_page_bench"

MAKE = """
import django; django.setup()
import numpy as np
from django.contrib.auth.models import User
from watchtide.server.people.access import give_role
from watchtide.server.scans import services as scans
from watchtide.server.streams import folding, store
from watchtide.server.streams.models import Batch, Stream
from watchtide.plan.text import from_data
from bench.measures import taps
give_role(User.objects.create_user("demo", password="demo"), "analyst")
batch = Batch.objects.create(key="b" * 64, source="bench")
rows = []
for i, (n, step) in enumerate(((20_000, 900), (1_000_000, 60))):
    times = 1_700_000_000 * 10**9 + np.arange(n, dtype=np.int64) * step * 10**9
    s = Stream.objects.create(metric=f"bench_{n}", key=f"metric=bench_{n}", key_sha=str(i) * 64, step_ns=step * 10**9)
    rows.append((s.pk, times, taps(n)))
table = []
rng = np.random.default_rng(0)
for i in range(1_000):
    key = f"metric=table_{i % 20:02d},place=p{i:04d}"
    s = Stream.objects.create(metric=f"table_{i % 20:02d}", key=key, key_sha=f"t{i:063d}", step_ns=900 * 10**9)
    times = 1_700_000_000 * 10**9 + np.arange(1_344, dtype=np.int64) * 900 * 10**9
    values = taps(1_344) + rng.normal(0, 4, 1_344)
    values[rng.integers(0, 1_344, 2)] *= 3
    table.append(s.pk)
    rows.append((s.pk, times, values))
store.write_blocks(batch, rows)
Batch.objects.update(accepted_at="2026-01-01T00:00Z")
folding.fold()
scans.start(scans.plan_version("bench", from_data({"flag": {"level": {"sigmas": 5}}}), ""), [rows[0][0]], is_standing=True)
from watchtide.server.jobs import services
from watchtide.server.jobs.models import Job
services.run(Job.objects.latest("pk").pk)
quick = from_data({"baseline": {"kind": "slot", "seasons": ["24h"]}, "flag": {"level": {"sigmas": 5}, "windows": "none"}})
scans.start(scans.plan_version("table", quick, ""), table, is_standing=True)
services.run(Job.objects.latest("pk").pk)
"""

# From a key on the level line until the figure it gives stands in the page.
LEVEL = """
const done = arguments[0];
const strip = document.querySelector("[aria-label='Findings at this level']");
const line = document.querySelector("[role=slider]");
const begin = performance.now();
new MutationObserver((_, watch) => { watch.disconnect(); requestAnimationFrame(() => done(performance.now() - begin)); })
  .observe(strip, { childList: true, subtree: true, characterData: true });
line.dispatchEvent(new KeyboardEvent("keydown", { key: arguments[1] ?? "ArrowUp", bubbles: true }));
"""

# From a click in the tide table until the workbench has drawn its lines.
OPEN = """
const done = arguments[1];
const begin = performance.now();
document.querySelector(`a.tide-stream[href="/workbench/${arguments[0]}"]`).click();
(function look() {
  if (document.querySelectorAll(".bench-charts .u-over").length) requestAnimationFrame(() => done(performance.now() - begin));
  else requestAnimationFrame(look);
})();
"""


# The last that the tide table fetches are its incidents.
LOADED = "return performance.getEntriesByType('resource').some((r) => r.name.includes('/api/v1/incidents'))"

# From the rail to the tide table with its rows drawn.
TABLE = """
const done = arguments[0];
const begin = performance.now();
document.querySelector("nav a[href='/']:not(.mark)").click();
(function look() {
  if (document.querySelectorAll("a.tide-stream").length > 10) requestAnimationFrame(() => done(performance.now() - begin));
  else requestAnimationFrame(look);
})();
"""

# The whole table scrolled through, a row a frame at least: the longest tasks, and how long frames took.
SCROLL = """
const done = arguments[0];
const box = document.querySelector(".tide-scroll");
const tasks = [];
new PerformanceObserver((list) => tasks.push(...list.getEntries().map((e) => e.duration))).observe({ type: "longtask" });
const frames = [];
let last = performance.now();
(function step(now) {
  frames.push(now - last);
  last = now;
  box.scrollTop += 80;
  if (box.scrollTop + box.clientHeight < box.scrollHeight - 1) requestAnimationFrame(step);
  else setTimeout(() => done([frames.slice(2), tasks]), 300);
})(last);
"""

# From a key that zooms until the first pane is drawn anew.
ZOOM = """
const done = arguments[1];
const pen = document.querySelector(".bench-charts canvas").getContext("2d");
const clear = pen.clearRect;
const begin = performance.now();
pen.clearRect = function (...box) {
  pen.clearRect = clear;
  requestAnimationFrame(() => done(performance.now() - begin));
  return clear.apply(pen, box);
};
document.body.dispatchEvent(new KeyboardEvent("keydown", { key: arguments[0], bubbles: true }));
"""


def measure() -> dict[str, Any]:
    import MySQLdb

    env = os.environ
    connection = MySQLdb.connect(
        unix_socket=env["WATCHTIDE_DB_SOCKET"],
        user=env["WATCHTIDE_DB_USER"],
        passwd=env["WATCHTIDE_DB_PASSWORD"],
    )
    connection.cursor().execute(f"DROP DATABASE IF EXISTS {NAME}")
    connection.cursor().execute(f"CREATE DATABASE {NAME} COLLATE utf8mb4_bin")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    with tempfile.TemporaryDirectory() as data:
        environment = {
            **env, "WATCHTIDE_DB_NAME": NAME, "WATCHTIDE_DATA": data, "WATCHTIDE_PORT": str(port),
            "DJANGO_SETTINGS_MODULE": "watchtide.server.settings", "WATCHTIDE_DEMO": "1",
        }  # fmt: skip
        children = []
        try:
            supervise._do(
                environment, "-m", "watchtide.cli.main", "server", "run", "migrate", "--verbosity", "0"
            )
            supervise._do(environment, "-c", MAKE)
            children.append(supervise._web(environment, supervise.LOOPBACK, port))
            supervise._wait_ready(supervise.LOOPBACK, port, children[0])
            with browser.chromium() as driver:
                return _drive(driver, f"http://127.0.0.1:{port}")
        finally:
            supervise._end(children)
            connection.cursor().execute(f"DROP DATABASE {NAME}")


def _drive(driver: Any, base: str) -> dict[str, Any]:
    browser.sign_in(driver, base + "/")
    driver.get(base + "/")
    browser.settled(driver)
    scripts, sheets = browser.sent(driver)
    script = "const done = arguments[0]; fetch('/api/v1/tide').then((r) => r.json()).then(done)"
    ids = {r["metric"]: r["id"] for r in driver.execute_async_script(script)["rows"]}
    small, large = ids["bench_20000"], ids["bench_1000000"]

    def open_from_table(stream: int) -> float:
        driver.get(base + "/?filter=bench")
        browser.wait_for(
            driver, lambda d: d.find_elements("css selector", f'a.tide-stream[href="/workbench/{stream}"]')
        )
        # Nobody clicks before the page that leads there has come whole.
        browser.wait_for(driver, lambda d: d.execute_script(LOADED))
        return float(driver.execute_async_script(OPEN, stream))

    opened = [open_from_table(small) for _ in range(RUNS + 1)][1:]
    browser.wait_for(driver, lambda d: d.find_elements("css selector", "[role=slider]"))
    browser.wait_for(
        driver, lambda d: d.find_elements("css selector", "[aria-label='Findings at this level']")
    )
    # Nobody drags a level while the page around it is still being made.
    browser.settled(driver)
    levels = [float(driver.execute_async_script(LEVEL)) for _ in range(RUNS + 1)][1:]
    million = [open_from_table(large) for _ in range(6)][1:]
    browser.settled(driver)
    driver.execute_script("document.activeElement.blur()")
    zooms = []
    for i in range(RUNS + 2):
        # In and out in turn, so that every other one is a span not seen before; what it fetches may come later.
        zooms.append(float(driver.execute_async_script(ZOOM, "-" if i % 3 == 2 else "+")))
        browser.settled(driver)
    tables = []
    for _ in range(RUNS + 1):
        tables.append(float(driver.execute_async_script(TABLE)))
        driver.back()
        browser.wait_for(driver, lambda d: d.find_elements("css selector", ".bench-charts .u-over"))
    driver.execute_async_script(TABLE)
    browser.settled(driver)
    frames, tasks = driver.execute_async_script(SCROLL)
    paint = driver.execute_script(
        "return performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? null"
    )
    return {
        "first load of the tide table: JavaScript as sent, kB": scripts / 1e3,
        "first load: CSS as sent, kB": sheets / 1e3,
        "workbench, 20,000 samples: click to drawn, median ms": float(np.median(opened)),
        "click to drawn, 95th percentile ms": float(np.quantile(opened, 0.95)),
        "level change to new figures, median ms": float(np.median(levels)),
        "level change, 95th percentile ms": float(np.quantile(levels, 0.95)),
        "opening 1,000,000 samples: click to drawn, median ms": float(np.median(million)),
        "zoom to redraw at 1,000,000 samples, median ms": float(np.median(zooms[2:])),
        "zoom to redraw, 95th percentile ms": float(np.quantile(zooms[2:], 0.95)),
        "tide table of 1,000 streams: click to rows, median ms": float(np.median(tables[1:])),
        "tide table, 95th percentile ms": float(np.quantile(tables[1:], 0.95)),
        "scrolling 1,000 rows: median frame ms": float(np.median(frames)),
        "scrolling, 95th percentile frame ms": float(np.quantile(frames, 0.95)),
        "scrolling: tasks over 50 ms": len(tasks),
        "first paint of a page, ms": float(paint) if paint is not None else "not told by the browser",
    }
