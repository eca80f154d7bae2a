"""The whole walk by keyboard, a worker that dies, and what stands beside: fleet, columns, streams, forms, versions."""

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.test_walk import stream_id

pytestmark = pytest.mark.browser


def tab_to(page, words, most=140):
    """Press Tab until the focus is on what bears these words; what cannot be reached so fails."""
    script = (
        "const e = document.activeElement;"
        "return e === document.body ? '' : (e.getAttribute('aria-label') || '') + ' | ' + (e.innerText || e.value || '')"
    )
    for _ in range(most):
        page.type(Keys.TAB)
        if words in page.driver.execute_script(script):
            return page.driver.switch_to.active_element
    raise AssertionError(f"{words!r} cannot be reached by Tab")


def test_the_whole_walk_by_keyboard_alone(page):
    page.open("/")
    page.wait(lambda: page.all(".tide-stream"))
    page.press(Keys.ARROW_DOWN)
    row = page.wait(lambda: page.all(".tide-stream[aria-current]"))[0]
    number = int(row.get_attribute("href").rsplit("/", 1)[1])
    page.press(Keys.ENTER)
    page.wait(lambda: f"/workbench/{number}" in page.driver.current_url)
    page.says("standing · current")
    # Until the findings are there, a key has nothing to step to.
    page.wait(lambda: page.press("p") or "finding=" in page.driver.current_url)
    page.says("What else moved", ".explain", seconds=60)
    slider = tab_to(page, "Level from which samples are flagged")
    slider.send_keys(Keys.PAGE_UP)
    page.wait(lambda: "level=" in page.driver.current_url)
    page.says("changed, not run")
    tab_to(page, "Run as trial").send_keys(Keys.ENTER)
    page.says("trial · current", seconds=60)
    page.says("which both judged", "[aria-label=Compare]", seconds=60)
    tab_to(page, "Replay all").send_keys(Keys.ENTER)
    page.says("As if live", "[aria-label='What would it have said?']", seconds=120)
    tab_to(page, "Make it standing …").send_keys(Keys.ENTER)
    page.says("Leave it", "[aria-label='What would stand']")
    tab_to(page, "Make it standing").send_keys(Keys.ENTER)
    page.says("standing · current", seconds=60)
    # And back again: what stood before stands once more.
    now = page.fetch(f"/api/v1/streams/{number}")["standing_scan"]
    tab_to(page, "Undo: let").send_keys(Keys.ENTER)
    page.wait(lambda: page.fetch(f"/api/v1/streams/{number}")["standing_scan"] != now)
    assert page.fetch(f"/api/v1/streams/{number}")["standing_scan"]


def test_a_worker_that_is_killed_is_told_and_its_scan_is_finished_by_another(page, app):
    number = stream_id(page, "gate_taps", "Old Pier · child")
    page.open(f"/workbench/{number}")
    page.change_word("persistence: 2 of 3", "3")
    page.change_word("seasons:", "24h, 7d")
    page.button("Try on all 18").click()
    page.says("of 18 streams", seconds=60)
    app.replace_worker("bulk")
    page.says("its worker was lost and another took over", seconds=90)
    page.says("trial · current", seconds=120)
    page.button("Make it standing …").click()
    page.button("Make it standing for 18 streams")
    scan = page.fetch(f"/api/v1/streams/{number}")["standing_scan"]
    assert f"scan={scan}" not in page.driver.current_url


def test_the_fleet_holds_findings_back_and_columns_stay_with_the_person(page):
    page.open("/")
    every = page.fetch("/api/v1/tide")["open"]
    Select(page.first(By.XPATH, "//label[contains(., 'Across the fleet')]//select")).select_by_value("0.1")
    page.says("held back")
    assert "fleet=0.1" in page.driver.current_url
    held = page.fetch("/api/v1/tide?fleet=0.1")
    assert held["open"] + held["held_back"] == every and held["held_back"] > 0
    page.says(f"{held['open']} open findings")
    page.button("Columns").click()
    page.first(By.XPATH, "//label[contains(., 'owner')]//input").click()
    page.wait(lambda: "owner" in page.text(".tide-head"))
    page.open("/")
    page.wait(lambda: "owner" in page.text(".tide-head"))
    page.button("Columns").click()
    page.first(By.XPATH, "//label[contains(., 'owner')]//input").click()
    page.wait(lambda: "owner" not in page.text(".tide-head"))


def test_streams_are_laid_over_one_another_and_both_forms_stand_side_by_side(page):
    number = stream_id(page, "gate_taps", "Northquay · adult")
    other = stream_id(page, "gate_taps", "Gullhaven · adult")
    page.open(f"/workbench/{number}")
    assert page.find(".ruler").get_attribute("aria-label") == "Cycles of 1\u2009d and 7\u2009d"
    chooser = page.labelled("Beside it, another stream")
    chooser.click()
    chooser.send_keys("gate_taps gullhaven adult")
    page.wait(lambda: page.texts("[role=option]") == ["gate_taps · Gullhaven · adult"])
    chooser.send_keys(Keys.ARROW_DOWN, Keys.ENTER)
    page.wait(lambda: f"with={other}" in page.driver.current_url)
    page.wait(lambda: page.all("[role=img][aria-label^='gate_taps Gullhaven']"))
    Select(page.labelled("Where the other streams are drawn")).select_by_value("over")
    page.wait(lambda: not page.all("[role=img][aria-label^='gate_taps Gullhaven']"))
    page.says("gate_taps · Gullhaven · adult", ".over-name")
    Select(page.labelled("Scale of the other streams")).select_by_value("common")
    page.wait(
        lambda: all(w in page.driver.current_url for w in ("lay=over", "scale=common", f"with={other}"))
    )
    page.button("Both forms").click()
    page.says("Season left in the size of the remainder", seconds=60)
    page.wait(
        lambda: len(page.all("[aria-label=Additive] [role=img], [aria-label=Multiplicative] [role=img]")) == 8
    )


def test_versions_show_their_differences_and_a_selection_is_tried_and_adopted(page):
    number = stream_id(page, "berth_messages", "Northquay")
    friend = stream_id(page, "berth_messages", "Tern Rock")
    page.open(f"/workbench/{number}")
    page.change_word("level:", "0.37")
    page.button("Try on a selection").click()
    find = page.labelled("Find streams to try it on")
    find.send_keys(Keys.CONTROL + "a")
    find.send_keys("berth_messages tern")
    page.wait(lambda: len(page.all(".selection label")) == 1)
    page.find(".selection input[type=checkbox]").click()
    page.button("Try on these 2").click()
    page.says("Make it standing …", seconds=90)
    page.button("Make it standing …").click()
    page.button("Make it standing for 2 streams").click()
    page.says("standing · current", seconds=60)
    stands = {n: page.fetch(f"/api/v1/streams/{n}")["standing_scan"] for n in (number, friend)}
    assert len(set(stands.values())) == 1
    page.button("Versions").click()
    page.says("stands for 2 streams", ".versions")
    page.wait(
        lambda: any("0.37" in e.text for e in page.all(".versions li:first-child .changes [data-kind=added]"))
    )
    page.button("Take v1 up").click()
    page.says("changed, not run")
