"""A board is made, arranged by key, put on a wall, and shown by a link to somebody who never signs in."""

import pytest
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

pytestmark = pytest.mark.browser


def test_a_day_is_looked_at_and_another_chosen_by_key(page):
    page.open("/look?metric=gate_taps")
    bars = page.labelled("Past days")
    first = page.text("h1")
    bars.send_keys(Keys.ARROW_LEFT)
    page.wait(lambda: page.text("h1") != first and "day=" in page.driver.current_url)
    second = page.text(".look-value")
    # Everything follows: the figures are those of the day before, counted by the server.
    day = page.driver.current_url.split("day=")[1][:10]
    got = page.fetch(f"/api/v1/look?metric=gate_taps&day={day}")
    assert f"{round(got['value']):,}" in second and got["start"].startswith(day[:7])
    page.says("Pulled it down")
    page.button("To the last finished one").click()
    page.wait(lambda: page.text("h1") == first)
    page.open("/")
    page.wait(lambda: page.all(".tide-family a"))
    page.all(".tide-family a")[0].click()
    page.wait(lambda: "/look?metric=" in page.driver.current_url)


def test_a_board_is_made_arranged_and_shown_by_a_link(page):
    page.open("/boards")
    page.labelled_by("Name").send_keys("Harbour wall")
    page.button("Make a board").click()
    page.says("This board has no pane yet.")
    for kind in ("text", "stream", "ribbons", "strongest", "incidents", "forecast"):
        Select(page.labelled_by("Show")).select_by_value(kind)
        if kind == "text":
            page.labelled_by("Text").send_keys("call Maud")
        if kind == "stream":
            # What is chosen stays for the next pane.
            chooser = page.labelled_by("Stream")
            chooser.send_keys("gate_taps northquay adult")
            page.wait(lambda: page.texts("[role=option]") == ["gate_taps · Northquay · adult"])
            chooser.send_keys(Keys.ARROW_DOWN, Keys.ENTER)
        before = len(page.all(".wall-pane"))
        page.button("Put it on the board").click()
        page.wait(lambda before=before: len(page.all(".wall-pane")) == before + 1)
    page.says("call Maud", ".wall")
    page.wait(lambda: len(page.all(".wall-pane .board-chart")) == 2, 60)
    board = page.driver.current_url.split("?")[0].rsplit("/", 1)[1]
    places = lambda: [(p["x"], p["y"]) for p in page.fetch(f"/api/v1/boards/{board}")["panes"]]
    handle = page.labelled("Move a text")
    handle.send_keys(Keys.ARROW_RIGHT)
    page.wait(lambda: places()[0] == (1, 0))
    # None covers another.
    panes = page.fetch(f"/api/v1/boards/{board}")["panes"]
    spots = [(p["x"] + i, p["y"] + k) for p in panes for i in range(p["w"]) for k in range(p["h"])]
    assert len(spots) == len(set(spots))
    page.button("Done").click()
    page.wait(lambda: not page.all(".wall-handle"))
    page.says(" old", ".wall-pane")
    page.button("Show it to others").click()
    page.button("Make a link").click()
    link = page.text(".secret")
    page.driver.get(link)
    page.says("call Maud", ".wall")
    page.wait(lambda: len(page.all(".board-chart")) == 2, 60)
    # Nothing leads on from there.
    assert not page.all(".rail") and not page.all(".wall a")
