"""The OpenAPI document and the doors agree: fuzzed by it, every answer is one that it states, and none is a 5xx."""

import gzip
import json
import os
from urllib.parse import quote

import pytest
import requests
import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from rest_framework.test import APIClient
from schemathesis.checks import not_a_server_error
from schemathesis.core import NotSet
from schemathesis.core.transport import Response
from schemathesis.specs.openapi.checks import response_schema_conformance, status_code_conformance

from watchtide.server.instance import ROOT

SCHEMA = schemathesis.openapi.from_path(str(ROOT / "docs" / "openapi.yaml"))
OPERATIONS = [r.ok() for r in SCHEMA.get_all_operations()]
# Streams that never end, and doors with another protocol, or whose bodies are no JSON.
OTHER = {"/api/v1/events", "/v1/metrics", "/api/v1/push"}
# The suite tries few of each; more, and another seed, find what these do not.
EXAMPLES, SEED = int(os.environ.get("FUZZ_EXAMPLES", "5")), int(os.environ.get("FUZZ_SEED", "20261129"))


def _sent(client, case):
    """The case as a request to the doors in this process, and the answer in the form that the checks read."""
    path = case.path
    for name, value in (case.path_parameters or {}).items():
        path = path.replace(f"{{{name}}}", quote(str(value), safe=""))
    headers = {
        f"HTTP_{k.upper().replace('-', '_')}": v.encode("utf-8", "replace").decode("latin-1")
        for k, v in (case.headers or {}).items()
        if k.lower() not in ("content-type", "content-length")
    }
    query = {k: v for k, v in (case.query or {}).items() if v is not None}
    request = requests.Request(case.method, f"http://testserver{path}", params=query)
    if case.media_type == "multipart/form-data":
        fields = case.body if isinstance(case.body, dict) else {}
        request.files = {
            # A file where one belongs; of the other fields only the text.
            name: ("some.csv", value) if isinstance(value, bytes) else (None, str(value))
            for name, value in fields.items()
        } or {"other": (None, "x")}
    elif not isinstance(case.body, NotSet):
        text = case.body if isinstance(case.body, bytes) else str(case.body)
        is_json = (case.media_type or "application/json") == "application/json"
        request.data = json.dumps(case.body) if is_json else text
        request.headers = {"Content-Type": case.media_type or "application/json"}
    sent = request.prepare()
    body = sent.body if isinstance(sent.body, bytes) else (sent.body or "").encode("utf-8", "surrogatepass")
    got = client.generic(
        case.method, sent.path_url, body, content_type=sent.headers.get("Content-Type", ""), **headers
    )
    return Response(
        status_code=got.status_code,
        headers={k.lower(): [v] for k, v in got.items()},
        content=b"".join(got.streaming_content) if got.streaming else got.content,
        request=sent,
        elapsed=0.0,
        verify=False,
    )


def _name(operation):
    return f"{operation.method.upper()} {operation.path}"


@pytest.mark.parametrize("operation", [o for o in OPERATIONS if o.path not in OTHER], ids=_name)
def test_every_answer_to_a_generated_request_is_documented(small_world, db, operation):
    from django.contrib.auth.models import User

    client = APIClient(raise_request_exception=False)
    client.force_authenticate(User.objects.get(username="ada"))

    @seed(SEED)
    @settings(
        max_examples=EXAMPLES, deadline=None, database=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(case=operation.as_strategy())
    def run(case):
        answer = _sent(client, case)
        case.validate_response(
            answer, checks=[not_a_server_error, status_code_conformance, response_schema_conformance]
        )

    run()


def test_every_operation_states_its_mistakes_and_hints_and_otlp_are_in_the_document():
    document = SCHEMA.raw_schema
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            codes = set(operation["responses"])
            assert "503" in codes and codes & {"200", "201", "202", "204"}, (method, path)
            if path != "/api/v1/schema":
                assert "400" in codes, (method, path)
            if "{" in path:
                assert "404" in codes, (method, path)
    assert "text/event-stream" in str(document["paths"]["/api/v1/events"])
    assert "application/x-protobuf" in str(document["paths"]["/v1/metrics"])


def test_a_problem_has_a_type_that_stays_and_names_the_field(api):
    problem = api.get("/api/v1/scans?stream=abc").json()
    assert problem["type"] == "urn:watchtide:problem:bad-request" and problem["status"] == 400
    assert problem["errors"] == [{"field": "stream", "detail": problem["title"]}]
    assert problem["detail"].startswith(problem["title"]) and problem["remedy"] in problem["detail"]
    two = api.post("/api/v1/logbook", {"verdict": "perhaps"}, format="json").json()
    assert {e["field"] for e in two["errors"]} >= {"verdict", "start"}


class TestOtlp:
    @pytest.mark.parametrize("kind", ["application/json", "application/x-protobuf"])
    def test_failures_are_the_protocols_own(self, sender, small_world, db, kind):
        from google.protobuf import json_format
        from google.rpc.status_pb2 import Status

        def status(answer):
            assert answer["Content-Type"] == kind
            found = Status()
            if kind == "application/json":
                return json_format.Parse(answer.content, found)
            found.ParseFromString(answer.content)
            return found

        broken = sender.post("/v1/metrics", b"\xff{", content_type=kind)
        assert broken.status_code == 400 and status(broken).code == 3 and status(broken).message
        stranger = APIClient().post("/v1/metrics", b"{}", content_type=kind)
        assert stranger.status_code == 401 and status(stranger).code == 16

    def test_a_media_type_that_is_not_the_protocols_is_answered_in_json(self, sender):
        answer = sender.post("/v1/metrics", b"x", content_type="text/plain")
        assert answer.status_code == 415 and answer["Content-Type"] == "application/json"
        assert json.loads(answer.content)["code"] == 3


class TestSendingLess:
    def test_large_answers_are_packed_and_a_tag_of_a_packed_one_still_guards_an_edit(self, api, stream_of):
        plain = api.get("/api/v1/schema")
        packed = api.get("/api/v1/schema", headers={"Accept-Encoding": "gzip"})
        assert packed["Content-Encoding"] == "gzip" and len(packed.content) < len(plain.content) / 5
        assert gzip.decompress(packed.content) == plain.content
        url = f"/api/v1/streams/{stream_of('quay').pk}/facts"
        tag = api.get(url, headers={"Accept-Encoding": "gzip"})["ETag"]
        body = {"owner": "M. Rask"}
        assert (
            api.patch(
                url, body, format="json", headers={"If-Match": f"W/{tag.removeprefix('W/')}"}
            ).status_code
            == 200
        )
        assert (
            api.patch(url, body | {"unit": "cm"}, format="json", headers={"If-Match": tag}).status_code == 412
        )

    def test_what_is_polled_and_has_not_changed_is_not_sent_again(self, api, small_world):
        first = api.get("/api/v1/tide")
        again = api.get("/api/v1/tide", headers={"If-None-Match": first["ETag"]})
        assert again.status_code == 304 and again.content == b""
        assert again["Cache-Control"] == "no-store"

    def test_built_files_are_kept_for_a_year_and_the_page_is_not(self, client, small_world, db):
        name = next((ROOT / "web" / "dist" / "assets").glob("*-*.js")).name
        built = client.get(f"/static/assets/{name}", headers={"Accept-Encoding": "gzip"})
        assert "max-age=315360000, public, immutable" in built["Cache-Control"]
        assert built["Content-Encoding"] == "gzip"
        assert client.get("/")["Cache-Control"] == "no-store"

    def test_hints_are_not_packed(self):
        from django.http import StreamingHttpResponse
        from django.test import RequestFactory

        from watchtide.server.packing import Packed

        stream = StreamingHttpResponse(iter([b"x" * 5_000]), content_type="text/event-stream")
        request = RequestFactory().get("/api/v1/events", headers={"Accept-Encoding": "gzip"})
        assert "Content-Encoding" not in Packed(lambda r: stream)(request)


def _numbers(value, place=""):
    if isinstance(value, dict):
        for name, part in value.items():
            yield from _numbers(part, f"{place}.{name}")
    elif isinstance(value, list):
        for part in value:
            yield from _numbers(part, f"{place}[]")
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield place, value


def test_no_answer_has_a_time_as_a_number(api, small_world, stream_of):
    """Seconds, milliseconds and nanoseconds since 1970 of any day since 2001 are larger than a thousand million."""
    scan, quay = small_world["scan"].pk, stream_of("quay").pk
    finding = api.get(f"/api/v1/review?stream={quay}").json()["queue"][0]["id"]
    own = f"/api/v1/scans/{scan}/streams/{quay}"
    round_ = api.post("/api/v1/rounds", {"scan": scan, "kind": "strongest", "size": 3}, format="json").json()[
        "id"
    ]
    for path in (
        "/api/v1/tide", "/api/v1/catalogue", f"/api/v1/streams/{quay}", f"/api/v1/streams/{quay}/samples",
        f"/api/v1/streams/{quay}/at?every=1d", f"{own}/window?components=true", f"{own}/curve", f"{own}/forms",
        f"{own}/fold?hours=24", f"{own}/examination", f"{own}/against/{scan}", f"/api/v1/findings/{finding}",
        f"/api/v1/findings/{finding}/explain", "/api/v1/review", "/api/v1/incidents", "/api/v1/logbook",
        "/api/v1/logbook/lanes", "/api/v1/logbook/quiet", "/api/v1/calendars/days", "/api/v1/scans", f"/api/v1/scans/{scan}",
        f"/api/v1/scans/{scan}/scorecard", f"/api/v1/rounds/{round_}", "/api/v1/batches", "/api/v1/jobs",
    ):  # fmt: skip
        answer = api.get(path)
        assert answer.status_code == 200, (path, answer.content[:300])
        # Bytes of the disk are larger too, and are none of these answers; odds are as large where hardly anything is ever flagged.
        late = [
            (place, n) for place, n in _numbers(answer.json()) if n > 1e9 and not place.endswith(".odds[]")
        ]
        assert not late, path
