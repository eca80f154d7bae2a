"""From figures to a level that is adopted, plans beside one another, and a card that is frozen; the logbook at work."""

import time
from urllib.parse import unquote

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from watchtide.core.series import keys
from watchtide.tables import clock

pytestmark = pytest.mark.browser
FAMILY = "late_rows"


def finished(page, scan):
    def is_done():
        time.sleep(0.2)
        return page.fetch(f"/api/v1/scans/{scan}")["state"] == "done"

    page.wait(is_done, 60)
    return scan


def by_hand(page, scan, family):
    """(true, false, found, incidents) of a family, counted here from findings and entries alone."""
    streams = page.fetch(f"/api/v1/scans/{scan}/scorecard?family={family}")["by_stream"]
    entries = page.fetch("/api/v1/logbook")["items"]
    spans = [
        (e["scope"], clock.parse_one(e["start"]), clock.parse_one(e["end"]), e["verdict"]) for e in entries
    ]
    true = false = 0
    met, all_of = set(), set()
    for row in streams:
        key = page.fetch(f"/api/v1/streams/{row['stream']}")["key"]
        own = [(i, *s[1:]) for i, s in enumerate(spans) if keys.covers(s[0], key)]
        looked = [s for s in own if s[3] == "reviewed"]
        all_of |= {
            s[0] for s in own if s[3] == "incident" and any(s[1] <= r[2] and s[2] >= r[1] for r in looked)
        }
        for f in page.fetch(f"/api/v1/scans/{scan}/streams/{row['stream']}/window")["findings"]:
            start, end = (clock.parse_one(f[edge]) for edge in ("start", "end"))
            touching = [s for s in own if start <= s[2] and end >= s[1]]
            hits = {s[0] for s in touching if s[3] == "incident"}
            met |= hits
            if hits:
                true += 1
            elif touching and any(s[3] != "unsure" for s in touching):
                false += 1
    return true, false, len(met & all_of), len(all_of)


def test_figures_a_level_a_comparison_and_a_frozen_card(page):
    page.open("/scorecards/1")
    page.says("findings counted")
    Select(page.labelled("Family of streams")).select_by_value("feed_delay_p95")
    true, false, found, incidents = by_hand(page, 1, "feed_delay_p95")
    assert incidents > 3
    page.says(
        f"Of {true + false} findings counted, {true} were real; of {incidents} incidents, {found} were found."
    )
    # A small scan of its own, so that adopting scans little.
    ids = [r["stream"] for r in page.fetch(f"/api/v1/scans/1/scorecard?family={FAMILY}")["by_stream"]]
    scans = [
        finished(page, page.send("/api/v1/scans", {"plan": plan, "streams": ids, "name": "late loads"})["id"])
        for plan in ({"flag": {"level": {"sigmas": 5}}}, {"flag": {"level": {"sigmas": 9}}})
    ]
    page.open(f"/scorecards/{scans[0]}")
    Select(page.labelled("Constraint")).select_by_value("cost")
    page.says("chosen on four fifths")
    page.button("as a new version").click()
    page.says("its scorecard")
    adopted = page.fetch("/api/v1/scans")["items"][0]
    assert adopted["plan"] == "late loads" and adopted["version"] == 3
    finished(page, adopted["id"])
    page.open("/scorecards")
    for scan in scans:
        page.labelled(f"Compare late loads, v{scans.index(scan) + 1}").click()
    page.button("Compare 2 scans").click()
    page.says("What can be said")
    page.says("recall", "ul.said")
    page.button("Set against").click()
    page.wait(lambda: unquote(page.driver.current_url).endswith(f"scans={scans[1]},{scans[0]}"))
    # Frozen, then the logbook changes under it.
    page.open(f"/scorecards/{scans[0]}")
    page.button("Publish").click()
    page.find("form.publish input").send_keys(" for the record")
    page.find("form.publish button[type=submit]").click()
    page.wait(lambda: "/published/" in page.driver.current_url)
    page.says("Nothing that was counted has changed since.")
    number = page.driver.current_url.rsplit("/", 1)[1]
    key = page.fetch(f"/api/v1/streams/{ids[0]}")["key"]
    entry = page.send(
        "/api/v1/logbook",
        {"scope": key, "start": "2026-08-20T00:00Z", "end": "2026-08-21T00:00Z", "verdict": "incident"},
    )
    page.open(f"/published/{number}")
    page.says("1 entry came to the logbook")
    page.send("/api/v1/logbook/bulk", {"entries": [entry["id"]], "take_out": True})
    for name in ("card.html", "card.svg", "findings.csv"):
        assert page.driver.execute_async_script(
            "const done = arguments[1]; fetch(arguments[0]).then((r) => done(r.status))", f"/api/v1/published/{number}/{name}"
        ) == 200  # fmt: skip


def test_labels_are_looked_at_taken_in_changed_in_one_go_and_undone(page, tmp_path):
    total = page.fetch("/api/v1/logbook")["total"]
    file = tmp_path / "two.csv"
    file.write_text(
        "series,start,end,verdict,cause\n"
        '"metric=gate_taps,place=Gullhaven",2026-08-15T10:30:00+01:00,2026-08-15T20:00:00+01:00,foreseen,market moved\n'
        "metric=quay_wind,2026-10-20T10:00:00Z,2026-10-20T12:00:00Z,incident,gust\n"
    )
    page.open("/logbook")
    page.button("Import labels").click()
    page.find("input[type=file]").send_keys(str(file))
    page.says("1 new, 1 about entries that stand here otherwise")
    page.says("islanders' market → market moved", "[aria-label='Import labels']")
    Select(page.labelled("What becomes of them")).select_by_value("change")
    page.button("Take it in").click()
    page.says("1 entry taken in, 1 entry changed")
    assert page.fetch("/api/v1/logbook")["total"] == total + 1
    page.button("Undo").click()
    page.says("Undone for 2 entries")
    assert page.fetch("/api/v1/logbook")["total"] == total
    # By keyboard alone: filter, tick, give a cause.
    page.find("input[aria-label='Filter entries']").send_keys("backlog")
    page.wait(lambda: "fit" in page.text("header"))
    fits = page.fetch("/api/v1/logbook?text=backlog")["total"]
    page.wait(lambda: len(page.all("tbody tr")) == fits)
    page.labelled("Tick all").send_keys(Keys.SPACE)
    page.says(f"{fits} entries ticked", ".bulk")
    field = page.find(".bulk input")
    field.send_keys("queue at the receiver", Keys.ENTER)
    page.says("caused by queue at the receiver")
    assert page.fetch("/api/v1/logbook?text=queue")["total"] == fits
    page.button("Undo").send_keys(Keys.ENTER)
    page.says(f"Undone for {fits} entries")
    # A bar over time chooses its span.
    page.open("/logbook")
    # Of the first lane entries lie over one another.
    page.all(".entry-lanes .span-lane")[-1].find_element(By.TAG_NAME, "button").click()
    page.says("All of the time")


def test_a_span_drawn_on_a_chart_becomes_an_entry_and_planned_work_is_quiet(page):
    number = next(r["id"] for r in page.fetch("/api/v1/tide")["rows"] if r["metric"] == "quay_wind")
    page.open(f"/workbench/{number}")
    over = page.find(".pane .u-over")
    page.wait(lambda: over.size["width"] > 300)
    wide = over.size["width"]
    (
        ActionChains(page.driver).move_to_element_with_offset(over, -wide // 4, 0).key_down(Keys.SHIFT).click_and_hold()
        .move_by_offset(wide // 8, 0).release().key_up(Keys.SHIFT).perform()
    )  # fmt: skip
    form = page.find("form[aria-label='New entry']")
    assert "quay_wind" in form.find_element(By.NAME, "scope").get_attribute("value")
    form.find_element(By.NAME, "cause").send_keys("squall nobody flagged", Keys.ENTER)
    page.labelled("incident: squall nobody flagged")
    (entry,) = page.fetch("/api/v1/logbook?text=squall")["items"]
    assert entry["verdict"] == "incident" and entry["origin"] == "independent"
    page.send("/api/v1/logbook/bulk", {"entries": [entry["id"]], "take_out": True})
    # The same by keyboard: the span in sight.
    page.press("w")
    page.find("form[aria-label='New entry']")
    page.type(Keys.ESCAPE)
    page.wait(lambda: not page.all("form[aria-label='New entry']"))
    open_before = page.fetch("/api/v1/tide")["open"]
    page.open("/logbook")
    page.button("Quiet until").click()
    form = page.find("form[aria-label='Quiet until']")
    for label, day in (("From, day", "1 Jul 2026"), ("Until, day", "1 Jan 2099")):
        page.labelled(label).send_keys(day, Keys.TAB)
    form.find_element(By.NAME, "scope").send_keys("metric=gate_taps")
    form.find_element(By.NAME, "reason").send_keys("gates are renewed", Keys.ENTER)
    page.says("gates are renewed", "[aria-label='Planned work']")
    table = page.fetch("/api/v1/tide")
    assert table["quiet"] > 0 and table["open"] == open_before - table["quiet"]
    page.button("End it now").click()
    page.wait(
        lambda: not [q for q in page.fetch("/api/v1/logbook/quiet")["items"] if q["end"].startswith("2099")]
    )
