"""The whole application on demo data, and headless Chromium to use it with."""

import json
import os
import shutil
import signal
from types import SimpleNamespace

import pytest
from bench import browser
from selenium.common.exceptions import StaleElementReferenceException, TimeoutException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests import databases


@pytest.fixture(scope="session")
def app(tmp_path_factory):
    """Web server, workers and demo data on an empty database; gone when the tests are."""
    with databases.empty("watchtide_browser") as environment:
        yield from _running(environment, tmp_path_factory)


def _running(environment, tmp_path_factory):
    from watchtide.server import supervise

    port, relay, smtp = (supervise._free_port() for _ in range(3))
    folder = tmp_path_factory.mktemp("relay")
    environment |= {
        "WATCHTIDE_DEMO": "1", "WATCHTIDE_PORT": str(port),
        "WATCHTIDE_DATA": str(tmp_path_factory.mktemp("app")), "WATCHTIDE_JOB_LEASE_SECONDS": "8",
        "WATCHTIDE_OUTGOING": f"127.0.0.1:{relay}",
    }  # fmt: skip
    environment |= supervise.demo_mail(smtp, relay)
    children = []
    try:
        supervise._do(environment, "-m", "watchtide.cli.main", "server", "run", "migrate", "--verbosity", "0")
        lanes = supervise._workers(environment)
        children += lanes

        def replace_worker(lane):
            """Kill the worker of a lane as a crash would, and start another as its keeper would."""
            worker = lanes[("interactive", "bulk", "watch").index(lane)]
            os.kill(worker.process.pid, signal.SIGKILL)
            worker.process.wait()
            worker.start()

        # The demo's own lookouts judge sixteen weeks first: whoever wants one makes it.
        where = (str(folder), f"http://127.0.0.1:{relay}", "--no-lookouts")
        supervise._do(environment, "-m", "watchtide.demo.load", *where)
        children.append(supervise._web(environment, supervise.LOOPBACK, port))
        supervise._wait_ready(supervise.LOOPBACK, port, children[-1])
        children.append(supervise._standins(environment, folder, relay, port, 120, smtp))
        yield SimpleNamespace(
            base=f"http://127.0.0.1:{port}",
            harbour=f"http://127.0.0.1:{relay}",
            replace_worker=replace_worker,
        )
    finally:
        supervise._end(children)


@pytest.fixture(scope="session")
def chromium(app):
    with browser.chromium() as driver:
        browser.sign_in(driver, f"{app.base}/")
        yield driver


class Shown(WebElement):
    """An element that is found anew where the page has drawn it anew since, as an eye would."""

    def __init__(self, element, find):
        super().__init__(element.parent, element.id)
        self._find = find

    def _anew(self, act):
        for _ in range(3):
            try:
                return act()
            except StaleElementReferenceException:
                self._id = self._find().id
        return act()

    def _execute(self, command, params=None):
        return self._anew(lambda: super(Shown, self)._execute(command, dict(params) if params else None))

    def get_attribute(self, name):
        return self._anew(lambda: super(Shown, self).get_attribute(name))

    def is_displayed(self):
        return self._anew(super().is_displayed)


class Page:
    """What a person does and sees: by role, label and words."""

    def __init__(self, driver, base):
        self.driver, self.base = driver, base

    def open(self, path):
        self.driver.get(self.base + path)
        browser.settled(self.driver)
        return self

    def wait(self, condition, seconds=25):
        try:
            return browser.wait_for(self.driver, lambda _: condition(), seconds)
        except TimeoutException as error:
            shown = self.driver.find_element(By.TAG_NAME, "body").text
            raise TimeoutException(f"at {self.driver.current_url}, which shows:\n{shown}") from error

    def first(self, by, path):
        """The first such element, once there is one."""

        def find():
            return self.wait(lambda: self.driver.find_elements(by, path))[0]

        return Shown(find(), find)

    def find(self, css):
        return self.first(By.CSS_SELECTOR, css)

    def all(self, css):
        def at(i):
            return lambda: self.wait(lambda: self.driver.find_elements(By.CSS_SELECTOR, css)[i:])[0]

        return [Shown(e, at(i)) for i, e in enumerate(self.driver.find_elements(By.CSS_SELECTOR, css))]

    def button(self, words, inside=""):
        """A button or link with these words, inside an XPath or anywhere."""
        has = f"[contains(normalize-space(.), {words!r})]"
        return self.first(By.XPATH, f"{inside}//button{has} | {inside}//a{has}")

    def agree(self, words):
        """Presses the button of the question that was just asked."""
        self.button(words, "//*[@role='dialog']").click()

    def row(self, words):
        """The row of a table that holds these words, once it is there."""
        path = f"//tr[contains(normalize-space(.), {words!r})]"
        return self.first(By.XPATH, path)

    def labelled(self, label):
        return self.find(f"[aria-label^={label!r}]")

    def labelled_by(self, words):
        """The control that a label with these words is of."""
        path = f"//label[starts-with(normalize-space(.), {words!r})]"
        label = self.first(By.XPATH, path)
        if name := label.get_attribute("for"):
            return self.driver.find_element(By.ID, name)
        return label.find_element(By.CSS_SELECTOR, "input, select, textarea")

    def texts(self, css):
        """What stands in each, read in one go: a list that is drawn anew meanwhile is none the worse."""
        code = "return [...document.querySelectorAll(arguments[0])].map((e) => e.textContent)"
        return self.driver.execute_script(code, css)

    def text(self, css="main"):
        return self.find(css).text

    def says(self, words, css="body", seconds=25):
        self.wait(lambda: words in self.driver.find_element(By.CSS_SELECTOR, css).text, seconds)

    def change_word(self, label, text):
        """Open a word of the plan's sentence and write another in its place."""
        # What is still loading may draw the sentence anew under the click.
        for seconds in (5, 5, 25):
            self.labelled(label).click()
            try:
                field = self.wait(lambda: self.all("[role=dialog] input"), seconds)[0]
                break
            except TimeoutException:
                if seconds == 25:
                    raise
        field.send_keys(Keys.CONTROL + "a")
        field.send_keys(text + Keys.ENTER)

    def type(self, keys):
        self.driver.switch_to.active_element.send_keys(keys)

    def press(self, keys):
        self.driver.find_element(By.TAG_NAME, "body").send_keys(keys)

    def fetch(self, path):
        script = "const done = arguments[1]; fetch(arguments[0]).then((r) => r.json()).then(done)"
        return self.driver.execute_async_script(script, path)

    def send(self, path, body):
        script = """const [path, body, done] = arguments;
            const token = document.cookie.split("; ").find((c) => c.includes("csrf")).split("=")[1];
            fetch(path, {method: "POST", body, headers: {"Content-Type": "application/json", "X-CSRFToken": token}})
              .then((r) => r.json()).then(done)"""
        return self.driver.execute_async_script(script, path, json.dumps(body))

    def errors(self):
        return [entry["message"] for entry in self.driver.get_log("browser") if entry["level"] == "SEVERE"]


@pytest.fixture
def page(app, chromium):
    seen = Page(chromium, app.base)
    seen.errors()  # what earlier tests left
    yield seen
    told = [e for e in seen.errors() if "status of 4" not in e]
    assert not told, told


@pytest.fixture(scope="session")
def axe():
    from watchtide.server.instance import ROOT

    assert shutil.which("chromedriver")
    return (ROOT / "web/node_modules/axe-core/axe.min.js").read_text()
