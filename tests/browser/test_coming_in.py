"""Everything that comes in, as a person sees it: feeds, tokens, the catalogue, formulas, logs, layouts, undo."""

import httpx
import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

pytestmark = pytest.mark.browser
LOG = "".join(
    f"2026-08-{1 + i // 288:02d}T{i // 12 % 24:02d}:{i % 12 * 5:02d}:00Z {'PUT' if i % 5 else 'GET'} {i % 90}\n"
    for i in range(900)
)
PATTERN = r"(?P<time>\S+) (?P<verb>\w+) (?P<ms>\d+)"


def hand_in(page, path):
    page.open("/intake")
    page.find("input[type=file]").send_keys(str(path))


def enter(page, label, text):
    field = page.labelled(label)
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys(text, Keys.ENTER)


def test_what_the_harbour_sends_is_seen_coming_in(page):
    page.open("/intake/live")
    # Its first push may wait for a busy machine.
    page.says("token harbour relay", seconds=150)
    page.wait(lambda: "pushed" in page.row("token harbour relay").text)
    page.labelled("Fetch Ticket office now").click()
    # The schedule may have been quicker within the same step of the feed's grid.
    answer = page.first(By.XPATH, "//*[@role='status'][contains(., 'Ticket office: ')]").text
    assert "4 samples" in answer or "fetched already" in answer
    assert "failed" not in page.row("OpenMetrics text").text
    page.wait(
        lambda: [s["samples"] > 0 for s in page.fetch("/api/v1/catalogue?q=ticket_queue")["items"]] == [True]
    )


def test_a_feed_to_an_address_that_is_not_allowed_is_refused_with_the_remedy(page):
    page.open("/intake/live")
    page.button("Add a feed").click()
    page.find("input[name=name]").send_keys("inside")
    page.find("input[name=url]").send_keys("http://169.254.169.254/latest")
    page.find("form[aria-label='New feed'] button[type=submit]").click()
    page.says("not allowed", "[role=alert]")
    assert "WATCHTIDE_OUTGOING" in page.text("[role=alert]")


def test_a_token_is_shown_once_pushes_and_is_revoked(page, app):
    page.open("/intake/live")
    page.find("form[aria-label='New token'] input[name=name]").send_keys("night loader")
    page.button("Make a token").click()
    text = page.find(".secret").text
    headers = {"Authorization": f"Bearer {text}", "Content-Type": "application/x-ndjson"}
    body = '{"time": "2026-11-16T00:00Z", "metric": "night_rows", "value": 12, "table": "sailings"}'
    push = lambda: httpx.post(f"{app.base}/api/v1/push", content=body, headers=headers)
    assert push().json()["points"] == 1 and push().json()["is_repeat"]
    page.open("/intake/live")
    page.wait(lambda: "push samples" in page.row(text[:9]).text)
    assert text not in page.text()
    page.labelled("Revoke night loader").click()
    page.agree("Revoke")
    page.wait(lambda: "revoked" in page.row(text[:9]).text)
    assert push().status_code == 401


def test_a_stream_is_found_given_an_owner_and_guarded_from_deletion(page):
    page.open("/intake/streams")
    field = page.labelled("Find streams")
    field.send_keys("quay_wind place=Saltmarsh")
    page.wait(lambda: len(page.all("tbody tr")) == 1)
    page.button("Saltmarsh").click()
    page.find("input[name=owner]").send_keys("M. Rask")
    page.find("input[name=retention_days]").send_keys("5")
    page.says("would drop")
    page.find("input[name=retention_days]").send_keys(Keys.CONTROL, "a", Keys.DELETE)
    page.button("Save").click()
    page.says("Saltmarsh is changed")
    page.wait(lambda: "M. Rask" in page.row("quay_wind").text)
    page.button("Delete this stream").click()
    assert not page.button("Delete for good").is_enabled()
    page.button("Keep it").click()


def test_a_formula_is_refused_at_its_place_and_then_computed(page):
    page.open("/intake/formulas")
    for name, text in (
        ("metric", "adults_share"),
        ("formula", "100 * [gate_taps, fare=adult / [taps_of_a_place]"),
        ("by", "place"),
        ("unit", "%"),
    ):
        page.find(f"form input[name={name}]").send_keys(text)
    page.button("Compute").click()
    page.says("column", "[role=alert]")
    field = page.find("form input[name=formula]")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("100 * [gate_taps, fare=adult] / [taps_of_a_place]")
    page.button("Compute").click()
    page.says("adults_share: 6 streams")
    found = page.wait(
        lambda: (
            (f := page.fetch("/api/v1/catalogue?q=adults_share%20Northquay")["items"])
            and f[0]["samples"] > 10_000
            and f
        ),
        # Formulas are computed by upkeep, in its turn.
        seconds=90,
    )
    assert found[0]["unit"] == "%" and found[0]["denominator"]


def test_a_log_becomes_streams_by_a_pattern_and_its_batch_is_undone(page, tmp_path):
    (tmp_path / "relay.log").write_text(LOG)
    hand_in(page, tmp_path / "relay.log")
    page.says("a log needs a pattern")
    page.find("[placeholder*=time]").send_keys(PATTERN, Keys.ENTER)
    page.find(".columns")
    Select(page.labelled("What a row is")).select_by_visible_text("an event")
    page.labelled("Interval")
    page.button("and another figure").click()
    page.labelled("Column of measure 2")
    enter(page, "Metric", "relay")
    page.says("relay_ms_p95")
    page.button("Store only").click()
    page.says("Stored.")
    found = page.fetch("/api/v1/catalogue?q=relay%20verb=GET")["items"]
    assert {s["metric"] for s in found} == {"relay", "relay_ms_p95"}
    page.open("/intake")
    page.labelled("Undo relay.log").click()
    page.button("Yes, undo").click()
    page.says("relay.log is taken back")
    assert all(s["samples"] == 0 for s in page.fetch("/api/v1/catalogue?q=relay%20verb=GET")["items"])


def test_a_layout_is_kept_and_reads_the_next_file(page, tmp_path):
    text = "when;wo;taps\n" + "".join(
        f"2026-08-01 {h:02d}:00;{w};{h},5\n" for h in range(24) for w in ("a", "b")
    )
    (tmp_path / "shop_2026-08.csv").write_text(text)
    (tmp_path / "shop_2026-09.csv").write_text(text.replace("2026-08", "2026-09"))
    hand_in(page, tmp_path / "shop_2026-08.csv")
    page.says("2 streams, every 1h")
    assert Select(page.labelled("Decimal mark")).first_selected_option.text == "comma"
    page.find("input[type=checkbox]").click()
    page.labelled("Name of the layout")
    page.wait(lambda: page.button("Store only").is_enabled())
    page.button("Store only").click()
    page.says("Stored.")
    hand_in(page, tmp_path / "shop_2026-09.csv")
    page.says("Read by the layout")
    page.find("input[name=which-rows]:not(:checked)").click()
    page.button("Others").click()
    page.says("Store 48 rows and scan")


def test_a_calendar_is_kept_and_its_days_listed(page, tmp_path):
    page.open("/intake/calendars")
    page.says("Harbour days")
    (tmp_path / "works.ics").write_text(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20200101\r\n"
        "RRULE:FREQ=DAILY\r\nSUMMARY:Dredging\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
    page.find("input[type=file]").send_keys(str(tmp_path / "works.ics"))
    page.says("works: 1 event kept")
    page.says("Dredging")
    page.labelled("Remove works").click()
    page.agree("Remove")
    page.says("works is removed")
