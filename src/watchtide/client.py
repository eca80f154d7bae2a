"""A server by its REST API: push, scan, findings, verdicts, scorecards, lookouts.

from watchtide.client import Client

with Client("https://watch.example", token) as server:
    server.push([{"time": "2026-06-01T00:00:00Z", "metric": "taps", "value": 17, "gate": "north"}])
    scan = server.scan([s["id"] for s in server.streams("taps")])
    for finding in server.findings(scan["id"]):
        ...
"""

import itertools
import json
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal, Self, TypedDict, cast

import httpx
from tenacity import RetryCallState, Retrying, retry_if_exception, stop_after_attempt, wait_exponential

API = "/api/v1"
TIMEOUT_S, TRIES, MOST_WAIT_S = 30.0, 6, 60.0
# Lines of a push: some hundred kilobytes each.
LINES = 5_000
PAGE = 500
JSON_LINES = "application/x-ndjson"
# Between two looks at a job, at first and at most.
FIRST_LOOK_S, LONGEST_LOOK_S = 0.2, 5.0
Verdict = Literal["incident", "foreseen", "false-alarm", "unsure"]


class Pushed(TypedDict):
    """points : taken; refused : lines that were not, and why; is_repeat : whether all of it was known."""

    points: int
    refused: int
    refusals: str
    is_repeat: bool


class Stream(TypedDict):
    """A stream of the catalogue; more keys are in docs/openapi.yaml, CatalogueStream."""

    id: int
    metric: str
    key: str
    title: str
    unit: str
    zone: str
    samples: int


class Scan(TypedDict):
    """A scan; state : queued, running, done, failed or cancelled. More keys: Scan."""

    id: int
    plan: str
    version: int
    mode: str
    streams: int
    findings: int | None
    precision: float | None
    recall: float | None
    job: int | None
    state: str


class Finding(TypedDict):
    """A finding; verdict : of the logbook, None where there is none yet. More keys: Finding."""

    id: int
    stream: int
    metric: str
    title: str
    scan: int
    start: str
    end: str
    kind: str
    direction: str
    score: float | None
    verdict: str | None


class Entry(TypedDict):
    """An entry of the logbook. More keys: Entry."""

    id: int
    scope: str
    start: str
    end: str
    verdict: str
    cause: str
    note: str
    author: str


class Lookout(TypedDict):
    """A lookout; states : how many streams are in which state. More keys: Lookout."""

    id: int
    name: str
    plan_name: str
    plan_version: int
    on: bool
    states: dict[str, int]


class Board(TypedDict):
    """A board; panes : each with kind, title, place, size and settings. More keys: Board."""

    id: int
    name: str
    panes: list[dict[str, Any]]
    version: int


class Shared(TypedDict):
    """A link that shows a board to whoever has it; url : handed out this once."""

    id: int
    url: str
    expires_at: str


class Job(TypedDict):
    """Work in the queue. More keys: Job."""

    id: int
    kind: str
    state: str
    done: int
    total: int
    message: str
    result: Any


class ServerError(RuntimeError):
    """What a server refused, or did not answer. status : of HTTP, 0 without an answer; title, place, remedy : of its problem document."""

    def __init__(self, status: int, title: str, place: str = "", remedy: str = "") -> None:
        self.status, self.title, self.place, self.remedy = status, title, place, remedy
        where = f"{place}: " if place else ""
        super().__init__(
            f"{where}{title}" + (f"; {remedy}" if remedy else "") + (f" ({status})" if status else "")
        )


class _Again(Exception):
    """Nothing was done, and the same may be sent again. after_s : the wait that the server states."""

    def __init__(self, error: ServerError, after_s: float | None) -> None:
        self.error, self.after_s = error, after_s
        super().__init__(str(error))


class Client:
    """A server, by a token of Settings → Tokens with the scopes push, read or write, as each call needs.

    A request that was not answered, or that the server has no room for, is sent again, six times at most with growing pauses or those that the server
    states: only where sending twice does no harm. Raises ServerError for what is refused.
    """

    def __init__(
        self,
        address: str,
        token: str,
        *,
        timeout: float = TIMEOUT_S,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        """address : such as https://watch.example; timeout : of each request, seconds; transport : of httpx, for tests and proxies."""
        if not address.startswith(("http://", "https://")):
            raise ValueError(f"{address}: no address of a server; write https://host")
        self._http = httpx.Client(
            base_url=address.rstrip("/") + API,
            headers={"Authorization": f"Bearer {token}", "Accept": "application/json"},
            timeout=timeout,
            follow_redirects=False,
            transport=transport,
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def push(self, rows: Iterable[Mapping[str, Any]], *, zone: str = "UTC") -> Pushed:
        """Send samples, each with time, metric, value, and attributes as text; any number, in batches. What the server has already is no harm.

        zone : of stamps without an offset. Scope push.
        """
        all_of = Pushed(points=0, refused=0, refusals="", is_repeat=True)
        rest = iter(rows)
        while lines := list(itertools.islice(rest, LINES)):
            body = "\n".join(json.dumps(line, default=str) for line in lines).encode()
            request = {"content": body, "params": {"zone": zone}, "headers": {"Content-Type": JSON_LINES}}
            got = self._ask("POST", "/push", is_safe=True, **request)
            all_of["points"] += got["points"]
            all_of["refused"] += got["refused"]
            all_of["refusals"] = all_of["refusals"] or got["refusals"]
            all_of["is_repeat"] &= got["is_repeat"]
        return all_of

    def streams(self, words: str = "") -> Iterator[Stream]:
        """Streams of the catalogue whose names hold these words. Scope read."""
        return cast("Iterator[Stream]", self._pages("/catalogue", {"q": words} if words else {}))

    def scan(
        self,
        streams: Sequence[int],
        plan: Mapping[str, Any] | str | None = None,
        *,
        name: str = "",
        mode: Literal["fit", "replay"] = "fit",
        wait: bool = True,
    ) -> Scan:
        """Run a plan over streams, by their numbers. plan : as data or as YAML, None chooses; name : of the plan; wait : until it is done.

        Raises ServerError for a scan that failed or was cancelled, with the message of its job. Scope write, and read to wait.
        """
        body: dict[str, Any] = {"streams": list(streams), "mode": mode} | ({"name": name} if name else {})
        if isinstance(plan, str):
            body["text"] = plan
        elif plan is not None:
            body["plan"] = dict(plan)
        begun = cast("Scan", self._ask("POST", "/scans", json=body))
        if not wait or begun["job"] is None:
            return begun
        self.wait_for(begun["job"])
        return cast("Scan", self._ask("GET", f"/scans/{begun['id']}"))

    def scans(self) -> Iterator[Scan]:
        """All scans, the latest first. Scope read."""
        return cast("Iterator[Scan]", self._pages("/scans"))

    def findings(self, scan: int, stream: int | None = None) -> Iterator[Finding]:
        """Findings of a scan, of one stream where it is stated. Scope read."""
        return cast(
            "Iterator[Finding]",
            self._pages(f"/scans/{scan}/findings", {} if stream is None else {"stream": stream}),
        )

    def judge(self, finding: int, verdict: Verdict, *, cause: str = "", note: str = "") -> Entry:
        """Write the verdict on a finding into the logbook. Scope write."""
        body = {"verdict": verdict, "cause": cause, "note": note}
        return cast("Entry", self._ask("POST", f"/findings/{finding}/verdict", json=body))

    def log(
        self,
        start: str,
        end: str,
        verdict: Verdict,
        *,
        scope: str = "",
        kind: str = "",
        cause: str = "",
        note: str = "",
    ) -> Entry:
        """Write an entry into the logbook. scope : a stream's key or a part of it, empty for every stream. Scope write."""
        body = {
            "start": start,
            "end": end,
            "verdict": verdict,
            "scope": scope,
            "kind": kind,
            "cause": cause,
            "note": note,
        }
        return cast("Entry", self._ask("POST", "/logbook", json=body))

    def logbook(self, *, start: str | None = None, stop: str | None = None) -> Iterator[Entry]:
        """Entries of the logbook, within a span where it is stated. Scope read."""
        stated = {k: v for k, v in (("from", start), ("to", stop)) if v is not None}
        return cast("Iterator[Entry]", self._pages("/logbook", stated))

    def scorecard(
        self,
        scan: int,
        *,
        streams: Sequence[int] = (),
        family: str = "",
        start: str | None = None,
        stop: str | None = None,
    ) -> dict[str, Any]:
        """Precision, recall and all that stands beside them of a scan, or of a part of it; waits while a job counts. Scope read."""
        stated: dict[str, Any] = {"from": start, "to": stop, "family": family}
        stated = {k: v for k, v in stated.items() if v}
        if streams:
            stated["streams"] = ",".join(map(str, streams))
        while True:
            card = self._ask("GET", f"/scans/{scan}/scorecard", params=stated)
            if "counting_job" not in card:
                return cast("dict[str, Any]", card)
            self.wait_for(card["counting_job"])

    def lookouts(self) -> Iterator[Lookout]:
        """All lookouts. Scope read."""
        return cast("Iterator[Lookout]", self._pages("/lookouts"))

    def lookout_findings(self, lookout: int) -> str:
        """What a lookout raised, as the text of a findings file (CSV). Scope read."""
        return str(self._ask("GET", f"/lookouts/{lookout}/findings.csv"))

    def boards(self) -> Iterator[Board]:
        """All boards, by name. Scope read."""
        return cast("Iterator[Board]", self._pages("/boards"))

    def make_board(self, name: str, panes: Sequence[Mapping[str, Any]] = ()) -> Board:
        """A board with these panes. Scope write."""
        return cast("Board", self._ask("POST", "/boards", json={"name": name, "panes": list(panes)}))

    def share_board(self, board: int, until: str) -> Shared:
        """A link that shows this board alone, without an account. until : its last day, or a time. Scope write."""
        return cast("Shared", self._ask("POST", f"/boards/{board}/share", json={"until": until}))

    def job(self, number: int) -> Job:
        """How work in the queue stands. Scope read."""
        return cast("Job", self._ask("GET", f"/jobs/{number}"))

    def wait_for(self, number: int, seconds: float | None = None) -> Job:
        """The job once it is done. seconds : to wait at most, None for ever. Raises ServerError where it failed or was cancelled, TimeoutError."""
        until = None if seconds is None else time.monotonic() + seconds
        pause = FIRST_LOOK_S
        while True:
            job = self.job(number)
            if job["state"] == "done":
                return job
            if job["state"] not in ("queued", "running"):
                raise ServerError(
                    0, f"job {number} {job['state']}: {job['message']}", "job", "look at its log"
                )
            if until is not None and time.monotonic() >= until:
                raise TimeoutError(f"job {number} is {job['state']} after {seconds:g} s")
            time.sleep(pause)
            pause = min(1.5 * pause, LONGEST_LOOK_S)

    def _pages(self, path: str, stated: Mapping[str, Any] | None = None) -> Iterator[dict[str, Any]]:
        cursor: dict[str, Any] = {}
        while True:
            page = self._ask("GET", path, params={"limit": PAGE, **(stated or {}), **cursor})
            yield from page["items"]
            if page["next"] is None:
                return
            cursor = {"cursor": page["next"]}

    def _ask(self, method: str, path: str, *, is_safe: bool | None = None, **request: Any) -> Any:
        """The answer. is_safe : whether the same may be sent twice; by default what only reads."""
        again = Retrying(
            stop=stop_after_attempt(TRIES),
            wait=_wait,
            retry=retry_if_exception(lambda error: isinstance(error, _Again)),
            reraise=True,
        )
        may_repeat = method == "GET" if is_safe is None else is_safe
        try:
            return again(self._once, method, path, request, may_repeat=may_repeat)
        except _Again as error:
            raise error.error from None

    def _once(self, method: str, path: str, request: Mapping[str, Any], *, may_repeat: bool) -> Any:
        try:
            answer = self._http.request(method, path, **request)
        except httpx.ConnectError as error:
            # It was never sent.
            raise _Again(
                ServerError(0, f"{self._http.base_url.host} cannot be reached: {error}"), None
            ) from error
        except httpx.TransportError as error:
            unanswered = ServerError(0, f"no answer from {self._http.base_url.host}: {error}")
            if may_repeat:
                raise _Again(unanswered, None) from error
            raise unanswered from error
        if answer.is_success:
            is_json = answer.headers.get("Content-Type", "").startswith("application/json")
            return answer.json() if is_json else answer.text
        refused = _problem(answer)
        if answer.status_code in (429, 503) or (answer.status_code in (502, 504) and may_repeat):
            raise _Again(refused, _stated_wait(answer))
        raise refused


def _wait(state: RetryCallState) -> float:
    """What the server states, else longer each time."""
    error = state.outcome.exception() if state.outcome is not None else None
    if isinstance(error, _Again) and error.after_s is not None:
        return min(error.after_s, MOST_WAIT_S)
    return wait_exponential(multiplier=0.2, max=10.0)(state)


def _stated_wait(answer: httpx.Response) -> float | None:
    text = answer.headers.get("Retry-After", "")
    return float(text) if text.isdigit() else None


def _problem(answer: httpx.Response) -> ServerError:
    try:
        document = answer.json()
    except ValueError:
        document = None
    if not isinstance(document, dict):
        return ServerError(answer.status_code, answer.reason_phrase or "refused")
    title, place, remedy = (str(document.get(name) or "") for name in ("title", "place", "remedy"))
    return ServerError(answer.status_code, title or answer.reason_phrase, place, remedy)
