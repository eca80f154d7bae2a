"""Headless Chromium for pictures, benchmarks and tests."""

import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webdriver import WebDriver
from selenium.webdriver.support.ui import WebDriverWait

FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--force-device-scale-factor=1",
    "--hide-scrollbars",
    "--lang=en-GB",
]


@contextmanager
def chromium(
    width: int = 1280, height: int = 800, *, dark: bool = False, zone: str = "Europe/Dublin"
) -> Iterator[WebDriver]:
    """A browser with a fresh profile, at exactly this size of page."""
    profile = tempfile.mkdtemp(prefix="watchtide-chromium-")
    options = webdriver.ChromeOptions()
    for flag in (*FLAGS, f"--user-data-dir={profile}", f"--window-size={width},{height}"):
        options.add_argument(flag)
    options.binary_location = shutil.which("chromium") or "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(
        options=options, service=Service(shutil.which("chromedriver") or "/usr/bin/chromedriver")
    )
    try:
        driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
        )
        driver.execute_cdp_cmd("Emulation.setTimezoneOverride", {"timezoneId": zone})
        scheme = "dark" if dark else "light"
        driver.execute_cdp_cmd(
            "Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
        )
        yield driver
    finally:
        driver.quit()
        shutil.rmtree(profile, ignore_errors=True)


def wait_for(driver: WebDriver, condition, seconds: float = 20):
    """Wait until a condition holds, and give its value; what the page redrew meanwhile is looked at anew."""
    redrawn = [StaleElementReferenceException]
    return WebDriverWait(driver, seconds, poll_frequency=0.05, ignored_exceptions=redrawn).until(condition)


def sign_in(driver: WebDriver, base: str, name: str = "demo", password: str = "demo") -> None:
    driver.get(base)
    wait_for(driver, lambda d: d.find_elements(By.CSS_SELECTOR, "input[autocomplete=username]"))
    driver.find_element(By.CSS_SELECTOR, "input[autocomplete=username]").send_keys(name)
    driver.find_element(By.CSS_SELECTOR, "input[autocomplete=current-password]").send_keys(password)
    driver.find_element(By.CSS_SELECTOR, "button[type=submit]").click()
    wait_for(driver, lambda d: d.find_elements(By.CSS_SELECTOR, "nav[aria-label=Screens]"))


def settled(driver: WebDriver) -> None:
    """Until nothing is waited for and the fonts are there."""
    wait_for(
        driver,
        lambda d: d.execute_script(
            "return document.fonts.status === 'loaded' && !document.querySelector('[role=status].padded')"
        ),
    )
    driver.execute_async_script(
        "const done = arguments[0]; requestAnimationFrame(() => requestAnimationFrame(done))"
    )


SENT = """
const of = (end) => performance.getEntriesByType("resource").filter((r) => new URL(r.name).pathname.endsWith(end));
return [".js", ".css"].map((end) => of(end).reduce((sum, r) => sum + r.encodedBodySize, 0));
"""


def sent(driver: WebDriver) -> list[int]:
    """Bytes of the scripts and of the style sheets of the page that stands, as they were sent."""
    return list(driver.execute_script(SENT))
