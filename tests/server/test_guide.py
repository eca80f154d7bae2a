"""The guide as the server answers it: to anybody, without data, and nothing from beside its folder."""

import pytest


@pytest.fixture
def pages(settings, tmp_path):
    settings.GUIDE = tmp_path / "guide"
    (settings.GUIDE / "tasks" / "level").mkdir(parents=True)
    (settings.GUIDE / "css").mkdir()
    (settings.GUIDE / "index.html").write_text("<h1>First ten minutes</h1>")
    (settings.GUIDE / "tasks" / "level" / "index.html").write_text("<h1>Set a level</h1>")
    (settings.GUIDE / "css" / "guide.css").write_text("body {}")
    (tmp_path / "secret.txt").write_text("hidden")
    (tmp_path / "guidebook").mkdir()
    return settings.GUIDE


def text_of(answer):
    return b"".join(answer.streaming_content).decode()


def test_pages_are_for_whoever_reaches_the_server(client, pages):
    assert "First ten minutes" in text_of(client.get("/guide/"))
    level = client.get("/guide/tasks/level/")
    assert "Set a level" in text_of(level) and level["Content-Type"].startswith("text/html")
    assert "default-src 'none'" in level["Content-Security-Policy"]
    assert client.get("/guide/css/guide.css")["Content-Type"].startswith("text/css")
    assert client.get("/guide/tasks/level/", HTTP_IF_MODIFIED_SINCE=level["Last-Modified"]).status_code == 304
    assert client.post("/guide/").status_code == 405


def test_addresses_without_the_slash_lead_on(client, pages):
    assert client.get("/guide")["Location"] == "/guide/"
    assert client.get("/guide/tasks/level")["Location"] == "/guide/tasks/level/"


def test_a_guide_built_anew_is_seen_at_once(client, pages):
    assert "First ten minutes" in text_of(client.get("/guide/"))
    (pages / "index.html").write_text("<h1>Another first page, and longer than the one before it</h1>")
    again = client.get("/guide/")
    body = text_of(again)
    assert "Another" in body and int(again["Content-Length"]) == len(body)


@pytest.mark.parametrize(
    "path",
    [
        "../secret.txt",
        "tasks/../../secret.txt",
        "../guidebook",
        "%2e%2e/secret.txt",
        "a%00b",
        "/etc/passwd",
        "css/",
        "no/such/page/",
    ],
)
def test_nothing_beside_the_guide_is_answered(client, pages, path):
    answer = client.get(f"/guide/{path}")
    assert answer.status_code in (400, 404)
    assert b"hidden" not in (b"".join(answer.streaming_content) if answer.streaming else answer.content)


def test_without_a_guide_the_page_says_that_there_is_no_such_screen(client, settings, tmp_path):
    settings.GUIDE = tmp_path / "none"
    assert client.get("/guide/").status_code == 404
