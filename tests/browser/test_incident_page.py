"""From what is proposed on the tide table to an incident that is judged, taken, taken back and closed."""

import pytest
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

pytestmark = pytest.mark.browser


def test_a_proposed_incident_is_kept_judged_by_key_taken_back_and_closed(page):
    page.open("/")
    page.says("proposed from findings that go together", ".open-incidents")
    rows = page.fetch("/api/v1/incidents")["items"]
    proposal = next(r for r in rows if r["state"] == "proposed")
    page.says(f"{proposal['streams']} streams", ".open-incidents")
    page.find(".open-incidents li[data-state=proposed] a").click()
    page.wait(lambda: len(page.all("ol .lane")) == proposal["findings"])
    page.button("Keep as an incident").click()
    page.button("Close")
    pk = int(page.driver.current_url.rsplit("/", 1)[1])
    page.says("put together", "[aria-label=History]")
    # Nothing is judged yet: the key says what it would write for all of them, and does it the second time.
    page.press("f")
    page.says(f"This writes {proposal['findings']} entries “foreseen”")
    assert page.fetch(f"/api/v1/incidents/{pk}")["open"] == proposal["findings"]
    page.press("f")
    page.says(f"Foreseen on {proposal['findings']} findings")
    page.wait(lambda: len([s for s in page.all("ol .lane") if "foreseen" in s.text]) == proposal["findings"])
    assert page.fetch(f"/api/v1/incidents/{pk}")["open"] == 0
    page.press("z")
    page.says("took back the verdict", "[aria-label=History]")
    assert page.fetch(f"/api/v1/incidents/{pk}")["open"] == proposal["findings"]
    page.find("aside button").click()
    page.says("yours", "header")
    title = page.find("aside input")
    title.send_keys(Keys.CONTROL, "a")
    title.send_keys("Feed counted twice", Keys.ENTER)
    page.says("Feed counted twice", "header")
    page.labelled("Take ").click()
    page.wait(lambda: len(page.all("ol .lane")) == proposal["findings"] - 1)
    page.open("/")
    page.says("1 open incident", ".open-incidents")
    page.button("Feed counted twice").click()
    page.button("Close").click()
    page.says("Open again")
    page.open("/incidents")
    page.wait(lambda: page.all("table.rows tbody tr"))
    assert "Feed counted twice" not in page.text()
    Select(page.find("select.word")).select_by_value("closed")
    page.row("Feed counted twice")


def test_what_is_not_one_thing_is_not_proposed_again(page):
    page.open("/incidents")
    before = [r for r in page.fetch("/api/v1/incidents")["items"] if r["state"] == "proposed"]
    page.open(f"/incidents/proposed/{before[-1]['finding']}")
    page.button("It is not one thing").click()
    page.wait(lambda: page.driver.current_url.endswith("/incidents"))
    after = [r for r in page.fetch("/api/v1/incidents")["items"] if r["state"] == "proposed"]
    assert {r["finding"] for r in before} - {r["finding"] for r in after} == {before[-1]["finding"]}
    # Its findings wait in the review as before.
    page.open(f"/incidents/proposed/{before[-1]['finding']}")
    page.says("nothing is proposed around this finding any more")
