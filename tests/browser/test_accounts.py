"""Settings, as an admin and the person they invite see them."""

import pytest
from bench import browser
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

pytestmark = pytest.mark.browser
PASSWORD = "six grey herons"


def test_an_admin_invites_somebody_who_chooses_a_password_and_is_ended_later(page, app):
    page.open("/settings")
    page.button("Invite somebody").click()
    page.find("[role=dialog] input").send_keys("tam", Keys.TAB, "Tam Keel")
    page.button("Make the link").click()
    page.says("It is shown only now")
    link = page.find(".secret").text
    assert link.startswith(f"{app.base}/join#")
    page.button("Done").click()
    page.wait(lambda: "invited, link ends" in page.row("Tam Keel").text)
    with browser.chromium() as other:
        other.get(link)
        field = browser.wait_for(other, lambda d: d.find_elements(By.CSS_SELECTOR, "input[type=password]"))[0]
        assert "Choose a password for tam" in other.find_element(By.TAG_NAME, "main").text
        field.send_keys(PASSWORD, Keys.ENTER)
        browser.wait_for(other, lambda d: "tam · viewer" in d.find_element(By.TAG_NAME, "body").text)
        other.get(f"{app.base}/settings")
        browser.settled(other)
        text = other.find_element(By.TAG_NAME, "main").text
        assert "Your sessions" in text and "Audit trail" not in text and "Invite" not in text
        page.open("/settings/people")
        page.labelled("Disable tam").click()
        page.wait(lambda: "disabled" in page.row("Tam Keel").text)
        other.get(f"{app.base}/settings")
        browser.wait_for(other, lambda d: "Sign in" in d.find_element(By.TAG_NAME, "body").text)
    page.open("/settings/trail")
    page.wait(lambda: "disabled · tam" in page.text() and "invited · tam as viewer" in page.text())
