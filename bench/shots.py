"""`./run shots`: the pictures of docs/screenshots/, made from a fresh demo."""

import json
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from selenium.webdriver.common.by import By

from bench import browser

ROOT = Path(__file__).resolve().parents[1]
FOLDER = ROOT / "docs" / "screenshots"
PORT = 8499


def main() -> None:
    demo = subprocess.Popen(
        [sys.executable, "-m", "watchtide.server.supervise", "demo", "--fresh", "--port", str(PORT)],
        stdout=subprocess.PIPE,
        text=True,
        cwd=ROOT,
    )
    try:
        assert demo.stdout is not None
        for line in demo.stdout:
            print(line, end="")
            if "is ready" in line:
                break
        FOLDER.mkdir(parents=True, exist_ok=True)
        for dark in (False, True):
            with browser.chromium(dark=dark) as driver:
                take(driver, f"http://127.0.0.1:{PORT}", dark)
    finally:
        demo.send_signal(signal.SIGTERM)
        demo.wait()


def take(driver, base: str, dark: bool) -> None:
    browser.sign_in(driver, f"{base}/")
    script = "const done = arguments[0]; fetch('/api/v1/tide').then((r) => r.json()).then(done)"
    rows = driver.execute_async_script(script)["rows"]
    stream = next(r["id"] for r in rows if r["metric"] == "gate_taps" and r["title"] == "Gullhaven · adult")
    ramp = next(r["id"] for r in rows if r["title"] == "south ramp")
    # Around the islanders' market and the storm, where the logbook has something to say.
    span = "from=1786315600000&to=1788043600000"
    pages = {
        "tide-table": "/",
        "workbench": f"/workbench/{stream}?{span}&explain=1",
        "scorecard": "/scorecards/1",
    }
    if not dark:
        pages |= {
            "review": _begun_round(driver, base),
            "incident": f"/incidents/proposed/{_first_proposed(driver)}",
            "lookouts": "/lookouts",
            "board": f"/boards/{_board(driver, stream)}",
        }
        scans, published = _trials(driver)
        pages |= {"logbook": "/logbook", "scorecards": "/scorecards", "intake": "/intake"}
        pages |= {"comparison": f"/scorecards/compare?scans={scans}", "published": f"/published/{published}"}
        pages |= {
            "pushes": "/intake/live",
            "units": f"/workbench/{ramp}?units=1",
            "identity": "/intake/identity",
            "settings": "/settings",
        }
    for name, path in pages.items():
        driver.get(base + path)
        browser.settled(driver)
        if name == "intake":
            _hand_in(driver)
        if name == "scorecard":
            # The best level comes after the figures.
            browser.wait_for(
                driver, lambda d: "judged on the fifth" in d.find_element(By.TAG_NAME, "main").text, 60
            )
        if name == "pushes":
            browser.wait_for(
                driver, lambda d: "feed Ticket office" in d.find_element(By.TAG_NAME, "main").text, 60
            )
        if name == "units":
            units = browser.wait_for(
                driver, lambda d: d.find_elements(By.CSS_SELECTOR, "[aria-label='One unit'] svg"), 60
            )
            driver.execute_script("arguments[0].scrollIntoView()", units[0])
        # Charts are drawn once their data are here: until two pictures are the same.
        _still(driver).save_screenshot(str(FOLDER / f"{name}{'-dark' if dark else ''}.png"))


def _post(driver, path: str, body: dict) -> dict:
    send = """const [path, body, done] = arguments;
        const token = document.cookie.split("; ").find((c) => c.includes("csrf")).split("=")[1];
        fetch(path, {method: "POST", body, headers: {"Content-Type": "application/json", "X-CSRFToken": token}})
          .then((r) => r.json()).then(done)"""
    return driver.execute_async_script(send, path, json.dumps(body))


def _board(driver, stream: int) -> int:
    """A board for the harbour's wall."""
    panes = [
        {"kind": "ribbons", "metric": "berth_level", "title": "Berth levels", "w": 7, "h": 6},
        {"kind": "incidents", "title": "Open incidents", "x": 7, "w": 5, "h": 6, "most": 4},
        {"kind": "stream", "stream": stream, "hours": 96, "title": "Gullhaven, adults", "y": 6, "w": 7, "h": 6},
        {"kind": "strongest", "title": "The 5 strongest", "x": 7, "y": 6, "w": 5, "h": 6},
        {"kind": "scorecard", "title": "Precision so far", "y": 12, "w": 7, "h": 3},
        {"kind": "text", "text": "At night call the duty desk.", "title": "Whom to call", "x": 7, "y": 12, "w": 5, "h": 3},
    ]  # fmt: skip
    return _post(driver, "/api/v1/boards", {"name": "Harbour wall", "panes": panes})["id"]


def _trials(driver) -> tuple[str, int]:
    """Two plans and a replay of one of them on the gates, and a card that is published."""
    ask = "const done = arguments[1]; fetch(arguments[0]).then((r) => r.json()).then(done)"

    def post(path: str, body: dict) -> dict:
        return _post(driver, path, body)

    def ended(path: str) -> dict:
        def state(_):
            row = driver.execute_async_script(ask, path)
            return row if row["state"] not in ("queued", "running") else None

        return browser.wait_for(driver, state, 600)

    rows = driver.execute_async_script(ask, "/api/v1/tide")["rows"]
    gates = [r["id"] for r in rows if r["metric"] == "gate_taps"]
    group = {"group": {"need": 2, "of": 3, "merge": "2h"}}
    plans = [(group, "fit"), ({**group, "baseline": {"kind": "slot"}}, "fit"), (group, "replay")]
    made = [
        post("/api/v1/scans", {"plan": plan, "streams": gates, "mode": mode, "name": "gates"})["id"]
        for plan, mode in plans
    ]
    for scan in made:
        ended(f"/api/v1/scans/{scan}")
    job = post("/api/v1/scans/1/publish", {"title": "The harbour, autumn 2026"})["job"]
    published = ended(f"/api/v1/jobs/{job}")["result"]["published"]
    return ",".join(map(str, made)), published


def _begun_round(driver, base: str) -> str:
    """A round of review, begun as a person does."""
    driver.get(base + "/review")
    browser.wait_for(driver, lambda d: d.find_elements(By.CSS_SELECTOR, ".begin button"))[0].click()
    browser.wait_for(driver, lambda d: re.search(r"/review/\d+$", d.current_url))
    return "/review/" + driver.current_url.rsplit("/", 1)[1]


def _first_proposed(driver) -> int:
    script = "const done = arguments[0]; fetch('/api/v1/incidents').then((r) => r.json()).then(done)"
    return next(
        r["finding"] for r in driver.execute_async_script(script)["items"] if r["state"] == "proposed"
    )


def _still(driver):
    before = b""
    for _ in range(40):
        now = driver.get_screenshot_as_png()
        if now == before and not driver.find_elements(By.CSS_SELECTOR, "[role=status].padded"):
            break
        before = now
        time.sleep(0.25)
    return driver


def _hand_in(driver) -> None:
    """A file with some trouble in it."""
    from watchtide.demo import world

    family = world._gate_taps(np.random.default_rng(1))
    family.streams[:] = family.streams[:6]
    lines = world.family_csv(family).splitlines()[:20_000]
    for i in range(5, 4_000, 97):
        lines[i] = re.sub(r",\d+$", ",closed", lines[i])
    lines[11] = lines[11].replace("2026-07-27", "27/07/26")
    path = Path(tempfile.gettempdir()) / "taps_2026-07.csv"
    path.write_text("\n".join(lines) + "\n2026-09-")
    driver.find_element(By.CSS_SELECTOR, "input[type=file]").send_keys(str(path))
    browser.wait_for(driver, lambda d: d.find_elements(By.XPATH, "//h2[contains(., 'What it will become')]"))
    path.unlink()


if __name__ == "__main__":
    main()
