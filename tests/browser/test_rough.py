"""A page on a bad day: no connection, a slow one, a part that does not come; and what a hand does not reach at once."""

import pytest
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.test_walk import stream_id

pytestmark = pytest.mark.browser

PANE = ".pane-label [role=status]"


def network(page, **conditions):
    page.driver.execute_cdp_cmd("Network.enable", {})
    page.driver.execute_cdp_cmd(
        "Network.emulateNetworkConditions",
        {"offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1, **conditions},
    )


@pytest.fixture
def bench(page):
    number = stream_id(page, "gate_taps", "Gullhaven · adult")
    page.open(f"/workbench/{number}")
    # The list comes after the chart, and keys go along it.
    page.wait(lambda: all(page.all(css) for css in (".pennants", ".histogram", ".findings-list li")), 60)
    yield page
    network(page)
    # What could not be fetched is no mistake here.
    page.errors()


def state(page):
    return page.find(PANE).text.strip()


def test_without_a_connection_the_pane_says_so_and_goes_on_when_there_is_one(bench):
    network(bench, offline=True)
    for _ in range(6):
        bench.press(Keys.ARROW_LEFT)
    bench.wait(lambda: state(bench) == "no connection: as it was")
    # A verdict that cannot be written says so, and nothing pretends that it was.
    bench.press("n")
    bench.wait(lambda: bench.all("[data-chosen] .chosen-finding"))
    bench.press("i")
    bench.wait(lambda: "server cannot be reached" in bench.text(".bench-side"))
    network(bench)
    bench.wait(lambda: state(bench) == "", 60)


def test_on_a_slow_connection_what_is_old_is_named(bench):
    network(bench, latency=1_500)
    for _ in range(6):
        bench.press(Keys.ARROW_LEFT)
    bench.wait(lambda: state(bench) == "refreshing")
    bench.wait(lambda: state(bench) == "", 60)


def test_a_stream_by_the_day_keeps_its_findings_and_its_plan(bench):
    # The promise of the level comes after the chart.
    bench.says("promised", ".sentence")
    sentence = bench.text(".sentence")
    Select(bench.labelled("How coarse")).select_by_value("day")
    bench.wait(lambda: "by the day" in bench.find(".pane-label").text)
    assert "by=day" in bench.driver.current_url and bench.text(".sentence") == sentence
    Select(bench.labelled("Laid under the line")).select_by_value("week")
    bench.says("the week before", ".legend")
    # The link restores it.
    bench.driver.refresh()
    bench.wait(lambda: "by the day" in bench.find(".pane-label").text)
    bench.says("the week before", ".legend")


def test_the_side_panel_is_made_wider_by_key_and_a_moment_pinned(bench):
    before = bench.find(".bench-side").rect["width"]
    handle = bench.labelled("Width of the plan")
    handle.send_keys(Keys.ARROW_LEFT)
    bench.wait(lambda: bench.find(".bench-side").rect["width"] > before + 20)
    over = bench.find(".u-over").rect
    bench.driver.execute_cdp_cmd(
        "Input.dispatchMouseEvent",
        {"type": "mouseMoved", "x": over["x"] + 40, "y": over["y"] + over["height"] * 0.7},
    )
    bench.wait(lambda: bench.all(".tip"))
    bench.press("x")
    bench.says("Unpin", ".tip.pinned")
    bench.press(Keys.ESCAPE)
    bench.wait(lambda: not bench.all(".tip.pinned"))


def test_plans_say_what_each_version_changed_and_where_it_stands(page):
    page.open("/plans")
    page.button("harbour watch").click()
    page.says("v1", "[aria-label=Versions]")
    page.says("gate_taps", "[aria-label='Where it stands']")


def test_the_tide_table_reads_out_a_ribbon_and_keeps_its_widths(page):
    page.open("/")
    page.wait(lambda: page.all(".tide-ribbon canvas"))
    ribbon = page.find(".tide-ribbon").rect
    page.driver.execute_cdp_cmd(
        "Input.dispatchMouseEvent",
        {"type": "mouseMoved", "x": ribbon["x"] + ribbon["width"] / 2, "y": ribbon["y"] + 6},
    )
    page.wait(lambda: page.all(".tide-tip"))
    assert "σ" in page.text(".tide-tip") or "not judged" in page.text(".tide-tip")
    before = page.find(".tide-row [role=rowheader]").rect["width"]
    page.labelled("Width of stream").send_keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)
    page.wait(lambda: page.find(".tide-row [role=rowheader]").rect["width"] > before + 10)
    page.driver.refresh()
    page.wait(lambda: page.all(".tide-row"))
    assert page.find(".tide-row [role=rowheader]").rect["width"] > before + 10
    # Head and cells are paired for a screen reader: as many of one as of the other.
    heads = page.all("[role=columnheader]")
    cells = page.find(".tide-row").find_elements("css selector", "[role=cell], [role=rowheader]")
    assert len(heads) == len(cells)
