"""From what goes wrong in the harbour to the mail, the verdict and the end: as somebody on duty meets it."""

import re

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import Select

from tests.browser.test_walk import stream_id

pytestmark = pytest.mark.browser
PLAN = "baseline: {kind: slot, seasons: [745m]}\nreplay: {refit: 7d, window: 28d}\nflag: {level: {sigmas: 5}}\ngroup: {merge: 30m}\n"


def mails(page):
    page.driver.get(page.harbour + "/mail")
    return [(a.text, a.get_attribute("href")) for a in page.all("td a")]


def newest(page, beginning):
    """The mail whose subject begins so, open, once it is there."""
    found = page.wait(lambda: [href for words, href in mails(page) if words.startswith(beginning)], 240)
    page.driver.get(found[0])
    return page.find("pre").get_attribute("textContent")


def test_a_storm_becomes_one_mail_a_verdict_and_an_end(app, page):
    page.harbour = app.harbour
    number = stream_id(page, "berth_level", "Northquay")
    page.open("/lookouts")
    page.button("Make a route").click()
    Select(page.labelled_by("Kind")).select_by_value("mail")
    page.labelled_by("Name").send_keys("Night desk")
    page.labelled_by("Mail address").send_keys("night@skerrymoor.example")
    page.button("Make the route").click()
    page.says("waits for its yes")
    asked = newest(page, "Shall Watch Tide write")
    page.driver.get(re.search(r"http\S+/confirm/\S+", asked).group(0))
    page.button("Yes, write to this address").click()
    page.says("Watch Tide writes to night@skerrymoor.example")
    page.open("/lookouts")
    page.says("nothing went wrong", "[aria-label=Routes]")
    route = page.fetch("/api/v1/routes")["items"][0]
    made = page.send(
        "/api/v1/lookouts",
        {
            "name": "Berth watch",
            "plan": PLAN,
            "scope": {"streams": [number]},
            "wait": "0s",
            "routes": [route["id"]],
        },
    )
    state = lambda: page.fetch(f"/api/v1/lookouts/{made['id']}/streams")["items"][0]["state"]
    page.wait(lambda: state() == "steady", 240)
    page.driver.get(app.harbour)
    page.button("storm").click()
    page.says("ferries stay in port", "body > p")
    text = newest(page, "Began: berth_level")
    assert "still going on" in text and "as CSV" in text
    page.driver.get(re.search(r"http\S+/verdict/\S+", text).group(0))
    page.says("What was it?")
    page.driver.find_element(By.CSS_SELECTOR, "input[value=foreseen]").click()
    page.driver.find_element(By.NAME, "cause").send_keys("a storm")
    page.button("Write it into the logbook").click()
    page.says("Foreseen: written into the logbook")
    ended = newest(page, "Over: berth_level")
    assert "in all" in ended
    page.open("/logbook")
    written = [e for e in page.fetch("/api/v1/logbook?limit=200")["items"] if e["cause"] == "a storm"]
    assert [(e["verdict"], e["author"]) for e in written] == [("foreseen", "Night desk, from a notice")]
