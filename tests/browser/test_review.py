"""Review as two people do it: rounds begun, judged by key, cut, taken back, and settled where they differ."""

import pytest
from bench import browser
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page
from tests.browser.test_walk import round_of

pytestmark = pytest.mark.browser


def judged(page, n):
    """Until so many are judged, and the next is there to be judged, or nothing is left."""
    page.wait(lambda: page.text("[aria-label=Progress]").startswith(f"{n} of"))
    page.wait(lambda: page.all(".verdicts button:enabled") or page.all(".review-main .empty"))


def test_a_round_is_begun_and_judged_by_keyboard_with_edges_cut_and_undo(page):
    page.open("/review")
    page.find("input[value=strongest]").click()
    Select(page.labelled("How many")).select_by_value("10")
    Select(page.labelled("Of which family")).select_by_visible_text("gate_taps")
    page.button("Begin the round").click()
    page.wait(lambda: page.driver.current_url.rsplit("/", 1)[1].isdigit())
    pk = int(page.driver.current_url.rsplit("/", 1)[1])
    entries = page.fetch("/api/v1/logbook")["total"]
    page.says("gate_taps", ".review-main header")
    first = page.text(".review-main header h1")
    judged(page, 0)
    page.press("c")
    page.wait(lambda: page.driver.switch_to.active_element.tag_name == "input")
    page.type("taps counted twice" + Keys.ENTER)
    # The edges need the samples: they are there with the chart.
    page.find(".review-chart canvas")
    page.press("[")
    page.press("[")
    page.press("}")
    page.says("Your span", ".edges")
    page.press("i")
    judged(page, 1)
    entry = page.fetch("/api/v1/logbook?text=taps%20counted%20twice")["items"][0]
    assert entry["verdict"] == "incident" and "gate_taps" in entry["scope"]
    # A cut: one finding becomes two to judge.
    page.wait(lambda: page.all(".review-chart canvas"))
    page.press("s")
    page.says("cut at", ".edges")
    page.press("x")
    judged(page, 2)
    total = page.fetch(f"/api/v1/rounds/{pk}")["total"]
    assert total == 11
    page.press("f")
    judged(page, 3)
    place = page.text(".review-main header") + page.text(".review-main p")
    page.press(Keys.ARROW_RIGHT)
    page.wait(lambda: page.text(".review-main header") + page.text(".review-main p") != place)
    # A key pressed while the next one is still on its way is nobody's.
    page.wait(lambda: page.all(".verdicts button:enabled"))
    for n in (2, 1, 0):
        page.press("z")
        judged(page, n)
    page.wait(lambda: page.text(".review-main header h1") == first)
    assert (
        page.fetch("/api/v1/logbook")["total"] == entries
        and page.fetch(f"/api/v1/rounds/{pk}")["total"] == 10
    )


def test_spans_nobody_flagged_are_judged_and_say_what_is_missed(page):
    pk = round_of(page, kind="unflagged", size=2, metric="quay_wind")
    page.open(f"/review/{pk}")
    page.says("nobody flagged anything")
    page.says("drawn by chance, p =")
    page.press("x")
    judged(page, 1)
    page.press("x")
    page.says("Every one has its verdict")
    page.says("Of 2 judged spans 0 held an incident", "aside")
    page.press("z")
    judged(page, 1)
    page.press("z")
    judged(page, 0)


def test_two_people_review_at_once_and_settle_what_they_differ_in(page, app):
    pk = round_of(page, size=10, metric="crossing_minutes_mean")
    page.open(f"/review/{pk}")
    with browser.chromium() as driver:
        browser.sign_in(driver, f"{app.base}/", "mate", "mate")
        mate = Page(driver, app.base).open(f"/review/{pk}")
        mate.find(".review-main header h1")
        page.find(".review-main header h1")
        words = [p.text(".review-main p") for p in (page, mate)]
        assert words[0] != words[1], "each has another one"
        for n in range(1, 10):
            (page if n % 2 else mate).press("i")
            for p in (page, mate):
                judged(p, n)
        # The tenth is before one of them, and then, as a second look, before the other.
        last = page if page.all(".review-main header") else mate
        last.press("i")
        for p in (page, mate):
            judged(p, 10)
        for p in (page, mate):
            p.open(f"/review/{pk}")
            p.wait(lambda p=p: p.all(".review-main header, .review-main .empty"))
        second = page if page.all(".review-main header") else mate
        second.says("you are the second to look")
        second.press("x")
        second.says("Every one has its verdict")
    page.open("/review")
    page.says(f"Two verdicts, round {pk}")
    page.says("0 of 1 agree", "table.rows")
    page.button("it is false alarm").click()
    page.wait(lambda: f"Two verdicts, round {pk}" not in page.text())
    assert page.fetch(f"/api/v1/rounds/{pk}")["disputed"] == []
