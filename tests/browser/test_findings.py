"""Findings are things one can take hold of, and charts are moved by hand: pointer, keyboard, touch."""

import pytest
from bench import browser
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from watchtide.tables import clock

pytestmark = pytest.mark.browser
DAY_MS = 86_400_000


@pytest.fixture
def finding(page):
    """The strongest open outlier with days of data on both sides, and the workbench open around it, none chosen."""
    for found in page.fetch("/api/v1/tide?most=50&family=50&stream=5")["strongest"]:
        at = clock.parse_one(found["start"]) // 10**6
        facts = page.fetch(f"/api/v1/streams/{found['stream']}")
        first, last = (clock.parse_one(facts[end]) // 10**6 for end in ("first", "last"))
        # A week: what is drawn aside has somewhere to go.
        if found["kind"] == "outlier" and first < at - 7 * DAY_MS and at + 7 * DAY_MS < last:
            break
    else:
        raise AssertionError("no outlier with a week of data on both sides")
    page.open(f"/workbench/{found['stream']}?from={at - 3 * DAY_MS}&to={at + 3 * DAY_MS}")
    page.find(".pennants button")
    return found


def span(page):
    """From and to, as the address has them."""
    parts = dict(p.split("=") for p in page.driver.current_url.partition("?")[2].split("&"))
    return float(parts["from"]), float(parts["to"])


def is_chosen(page, found):
    return f"finding={found['id']}" in page.driver.current_url


def pennant(page, found):
    """The middle one of the shown span: it was opened around this finding."""
    wide = page.find(".pennants").size["width"]
    return min(page.all(".pennants button"), key=lambda b: abs(b.location["x"] + 8 - page.find(".pennants").location["x"] - wide / 2))  # fmt: skip


def touch(page, *points):
    """One finger along these points of the window."""
    send = page.driver.execute_cdp_cmd
    for kind, spot in [("touchStart", points[0]), *(("touchMove", p) for p in points[1:])]:
        send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": [{"x": spot[0], "y": spot[1]}]})
    send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})


def middle(element):
    box = element.rect
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def test_a_pennant_is_opened_by_pointer_and_says_what_stands_behind_it(page, finding):
    pennant(page, finding).click()
    page.wait(lambda: is_chosen(page, finding))
    page.says("What else moved", "[aria-label=Findings] [data-chosen]", seconds=60)
    page.says("What was it?", "[data-chosen]")
    page.driver.back()
    page.wait(lambda: not is_chosen(page, finding))


def test_a_pennant_is_opened_by_keyboard_and_n_and_p_never_leave_the_data(page, finding):
    pennant(page, finding).send_keys(Keys.ENTER)
    page.wait(lambda: is_chosen(page, finding))
    facts = page.fetch(f"/api/v1/streams/{finding['stream']}")
    first, last = (clock.parse_one(facts[end]) // 10**6 for end in ("first", "last"))
    announced = lambda: page.driver.execute_script(
        "return document.querySelector('.bench-side > [role=status]').textContent"
    )
    for _ in range(60):
        page.press("n")
        low, high = span(page)
        assert first - 1 <= low < high <= last + 1
        if announced().startswith("That was the last"):
            break
        assert announced().startswith("Finding ")
    else:
        raise AssertionError("the end is never reached")


def test_a_run_is_opened_by_a_click_on_the_chart_and_by_touch(page, finding):
    chart = page.find(".bench-charts .u-over")
    ActionChains(page.driver).move_to_element(chart).click().perform()
    page.wait(lambda: is_chosen(page, finding))
    page.driver.back()
    page.wait(lambda: not is_chosen(page, finding))
    page.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": True, "maxTouchPoints": 2})
    try:
        touch(page, middle(pennant(page, finding)))
        page.wait(lambda: is_chosen(page, finding))
        before = span(page)
        x, y = middle(page.find(".bench-charts .u-over"))
        touch(page, (x, y), (x + 30, y), (x + 90, y), (x + 150, y))
        page.wait(lambda: span(page)[0] < before[0])
        assert span(page)[1] - span(page)[0] == pytest.approx(before[1] - before[0], abs=2)
    finally:
        page.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": False})


def test_a_verdict_is_given_in_place_and_taken_back(page, finding):
    pennant(page, finding).click()
    page.says("What was it?", "[data-chosen]", seconds=60)
    page.press("u")
    page.says("Unsure: written into the logbook", "[data-chosen]")
    page.wait(lambda: page.fetch(f"/api/v1/findings/{finding['id']}")["finding"]["verdict"] == "unsure")
    page.button("Take it back").click()
    page.says("Taken back", "[data-chosen]")
    page.wait(lambda: page.fetch(f"/api/v1/findings/{finding['id']}")["finding"]["verdict"] is None)


WHEEL = """
const [ctrlKey, ticks, done] = arguments;
const over = document.querySelector(".bench-charts .u-over");
const box = over.getBoundingClientRect();
const [clientX, clientY] = [box.left + box.width / 2, box.top + 40];
const tick = (left) => {
  if (left === 0) return done();
  over.dispatchEvent(
    new WheelEvent("wheel", { deltaY: -100, ctrlKey, bubbles: true, cancelable: true, clientX, clientY }),
  );
  setTimeout(() => tick(left - 1), 20);
};
tick(ticks);
"""


def test_a_drag_moves_the_wheel_zooms_with_ctrl_alone_and_back_undoes_it(page, finding):
    page.says("expected", ".legend")
    chart = page.find(".bench-charts .u-over")
    before = span(page)
    drag = ActionChains(page.driver).move_to_element(chart).click_and_hold()
    drag.move_by_offset(-120, 0).release().perform()
    page.wait(lambda: span(page)[0] > before[0])
    moved = span(page)
    assert moved[1] - moved[0] == pytest.approx(before[1] - before[0], abs=2)
    page.driver.back()
    page.wait(lambda: span(page) == before)

    def wheel(ctrl, ticks):
        """Ticks 20 ms apart, by the page's own clock: however slow the machine is, they are one gesture."""
        page.driver.execute_async_script(WHEEL, ctrl, ticks)

    wheel(False, 1)
    sizes = """return performance.getEntriesByType("resource").filter((e) => e.name.includes("/window"))
        .map((e) => e.transferSize)"""
    page.driver.execute_script("performance.clearResourceTimings()")
    wheel(True, 24)
    page.wait(lambda: span(page)[1] - span(page)[0] < (before[1] - before[0]) / 4)
    page.wait(lambda: page.driver.execute_script(sizes))
    fetched = page.driver.execute_script(sizes)
    assert len(fetched) <= 2 and sum(fetched) <= 300_000, fetched
    page.driver.back()
    page.wait(lambda: span(page) == before)


def test_words_take_a_span_and_a_double_click_the_latest(page, finding):
    page.button("a week").click()
    page.wait(lambda: abs(span(page)[1] - span(page)[0] - 7 * DAY_MS) < 2)
    # Live streams grow meanwhile: the latest is one of what it was before and what it is now.
    last = lambda: clock.parse_one(page.fetch(f"/api/v1/streams/{finding['stream']}")["last"]) // 10**6
    before = last()
    page.driver.refresh()
    page.find(".pennants")
    ActionChains(page.driver).move_to_element(page.find(".bench-charts .u-over")).double_click().perform()
    page.wait(lambda: before - 2 < span(page)[1] < last() + 2)


def test_a_part_of_the_page_that_is_missing_offers_to_reload(page):
    page.open("/")
    page.driver.execute_cdp_cmd("Network.enable", {})
    page.driver.execute_cdp_cmd("Network.setBlockedURLs", {"urls": ["*/Scorecards-*"]})
    try:
        page.button("Scorecards").click()
        page.says("could not be fetched")
        assert page.button("Reload")
        # The rest of the page goes on.
        page.button("Tide table").click()
        page.find(".tide-stream")
    finally:
        page.driver.execute_cdp_cmd("Network.setBlockedURLs", {"urls": []})
        page.errors()


def test_the_axis_goes_on_and_a_limit_is_told_in_a_sentence(page, finding):
    page.button("Forecast").click()
    page.says("beyond the end".capitalize(), ".forecast", seconds=60)
    page.find(".forecast select[aria-label=Limit] option[value=above]").click()
    page.says("futures reach it", ".forecast-sentence", seconds=60)
    before = page.text(".forecast-sentence")
    for _ in range(3):
        page.find(".forecast [role=slider]").send_keys(Keys.PAGE_DOWN)
    limit = lambda name: page.find(".forecast [role=slider][aria-label=Limit]").get_attribute(name)
    # The sentence follows when the keys have come to rest.
    page.wait(lambda: page.driver.current_url.endswith(f"limit=above+{limit('aria-valuenow')}"))
    page.wait(lambda: page.text(".forecast-sentence").startswith(limit("aria-valuetext").strip()), 60)
    assert page.text(".forecast-sentence") != before
    link = page.driver.current_url
    words = page.text(".forecast-sentence").partition(" is ")[0]
    page.open(link.removeprefix(page.base))
    page.says(words, ".forecast-sentence", seconds=60)


SCREENS = (
    "/",
    "/review",
    "/incidents",
    "/logbook",
    "/scorecards",
    "/intake",
    "/settings",
    "/look?metric=gate_taps",
)


@pytest.mark.parametrize("size", [(900, 700), (1280, 800), (1920, 1080)], ids=str)
def test_nothing_scrolls_sideways_and_no_name_is_cut(page, finding, size):
    wide, tall = size
    metrics = {"width": wide, "height": tall, "deviceScaleFactor": 1, "mobile": False}
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    try:
        for path in (*SCREENS, f"/workbench/{finding['stream']}?finding={finding['id']}"):
            page.open(path)
            page.find("header h1")
            found = page.driver.execute_script(
                """const wide = (e) => e && e.scrollWidth > e.clientWidth + 1;
                const name = document.querySelector("header h1");
                return {page: wide(document.documentElement), work: wide(document.querySelector(".work")),
                  name: wide(name) || name.getBoundingClientRect().width < 20, title: document.title}"""
            )
            assert not found["page"] and not found["work"] and not found["name"], (path, found)
            assert found["title"].endswith("Watch Tide") and len(found["title"]) > 12
        # The longest list of choices stays within the window, and its last one can be reached.
        page.open(f"/workbench/{finding['stream']}?side=plan")
        page.find("[aria-label^='baseline: ']").click()
        page.find(".change")
        low, last = page.driver.execute_script(
            """const list = document.querySelector(".change");
            const last = [...list.querySelectorAll("button")].at(-1);
            last.scrollIntoView();
            return [list, last].map((e) => e.getBoundingClientRect().bottom)"""
        )
        assert last < low <= tall, (last, low)
    finally:
        page.driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )


def test_the_first_screen_is_small_as_it_is_sent(page):
    page.open("/")
    page.find("a.tide-stream")
    scripts, sheets = browser.sent(page.driver)
    assert 50_000 < scripts <= 190_000, scripts
    assert 5_000 < sheets <= 45_000, sheets
