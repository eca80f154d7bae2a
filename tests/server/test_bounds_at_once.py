"""As many requests at once as a process may have connections; the others wait in line, and after a while get 503."""

import asyncio
import json

import pytest

from watchtide.server import bounds

GET = {"type": "http", "method": "GET", "headers": []}


async def answer_of(app, path):
    sent = []

    async def receive():
        return {"type": "http.request"}

    async def send(message):
        sent.append(message)

    await app({**GET, "path": path}, receive, send)
    return sent


class Slow:
    """An application that answers when it may, and counts how many it does at once."""

    def __init__(self):
        self.gate, self.now, self.most = asyncio.Event(), 0, 0

    async def __call__(self, scope, receive, send):
        # As Django does: the body first, then the work.
        while (await receive()).get("more_body"):
            pass
        self.now += 1
        self.most = max(self.most, self.now)
        await self.gate.wait()
        self.now -= 1
        if scope["path"] == "/fails":
            raise RuntimeError("it failed")
        await send({"type": "http.response.start", "status": 200, "headers": []})


@pytest.fixture
def few(settings):
    settings.REQUESTS_AT_ONCE = 3


def test_those_beyond_wait_and_all_are_answered(few):
    async def run():
        slow = Slow()
        app = bounds.Bounded(slow)
        tasks = [asyncio.create_task(answer_of(app, "/a" if i else "/fails")) for i in range(10)]
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        hints = asyncio.create_task(answer_of(app, "/api/v1/events"))
        for _ in range(5):
            await asyncio.sleep(0)
        assert slow.now == 4, "three, and the stream of hints beside them"
        slow.gate.set()
        done = await asyncio.gather(*tasks, hints, return_exceptions=True)
        return slow, done

    slow, done = asyncio.run(run())
    assert slow.most == 4 and slow.now == 0
    assert isinstance(done[0], RuntimeError)
    assert all(d[0]["status"] == 200 for d in done[1:])


def test_who_waits_too_long_is_refused_when_to_come_again(few, monkeypatch):
    monkeypatch.setattr(bounds, "LONGEST_WAIT_S", 0.01)

    async def run():
        slow = Slow()
        app = bounds.Bounded(slow)
        waiting = [asyncio.create_task(answer_of(app, "/a")) for _ in range(3)]
        await asyncio.sleep(0)
        refused = await answer_of(app, "/a")
        slow.gate.set()
        await asyncio.gather(*waiting)
        return refused, await answer_of(app, "/a")

    refused, after = asyncio.run(run())
    assert refused[0]["status"] == 503 and (b"retry-after", b"1") in refused[0]["headers"]
    problem = json.loads(refused[1]["body"])
    assert problem["title"] == "too many requests at once" and problem["remedy"] == "try again in a moment"
    assert after[0]["status"] == 200


def test_who_sends_slowly_keeps_nobody_waiting(few):
    async def run():
        slow = Slow()
        slow.gate.set()
        app, rest, sent = bounds.Bounded(slow), asyncio.Event(), []

        async def receive():
            if not rest.is_set():
                await rest.wait()
            return {"type": "http.request", "body": b"{}"}

        async def send(message):
            sent.append(message)

        scope = {**GET, "method": "POST", "path": "/a"}
        slowly = [asyncio.create_task(app(scope, receive, send)) for _ in range(5)]
        await asyncio.sleep(0)
        quick = await asyncio.wait_for(answer_of(app, "/a"), 5)
        rest.set()
        await asyncio.gather(*slowly)
        return quick, sent

    quick, sent = asyncio.run(run())
    assert quick[0]["status"] == 200 and [m["status"] for m in sent] == [200] * 5
