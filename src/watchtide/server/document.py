"""What the OpenAPI document states beside what the views say: every mistake, the stream of hints, and OTLP."""

from typing import Any

from watchtide.server.problems import KINDS, TYPE, URI

PROBLEM = {
    "type": "object",
    "description": "RFC 9457. `errors` names each field, or other place, with what is wrong.",
    "properties": {
        "type": {"type": "string", "enum": [URI + kind for kind in (*KINDS.values(), "other")]},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string"},
        "errors": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"field": {"type": "string"}, "detail": {"type": "string"}},
                "required": ["field", "detail"],
            },
        },
        "place": {"type": "string"},
        "remedy": {"type": "string"},
        "retry_after": {"type": "integer"},
    },
    "required": ["type", "title", "status", "detail", "errors"],
}
WORDS = {
    400: "A parameter or the body cannot be used.",
    401: "Not signed in, or the token is not known.",
    403: "The role, the token's scope or a missing CSRF token does not allow it.",
    404: "There is no such thing.",
    409: "It cannot be done in the present state.",
    410: "It was there and is over.",
    412: "Somebody else has changed it (If-Match).",
    413: "The body is too large.",
    415: "The media type or packing is not known.",
    422: "The body can be read and makes no sense.",
    429: "Too many; `Retry-After` says when to try again.",
    503: "The database is away for a moment; `Retry-After` says when to try again.",
    507: "The disk is nearly full; nothing is taken in until there is room.",
}
LINKS = ("/api/v1/links/look", "/api/v1/links/use")
OPEN = ("/api/v1/session", "/api/v1/schema", *LINKS)
INTAKE = ("/api/v1/uploads", "/api/v1/push", "/v1/metrics")


def complete(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """A hook of drf-spectacular: add to its document."""
    schemas = result["components"]["schemas"]
    schemas["Problem"] = PROBLEM
    result["components"]["responses"] = {
        f"{family}{code}": {"description": words, "content": content}
        for code, words in WORDS.items()
        for family, content in (("Problem", PROBLEM_CONTENT), ("Status", STATUS_CONTENT))
    }
    result["paths"]["/api/v1/events"] = {"get": EVENTS}
    result["paths"]["/v1/metrics"] = {"post": OTLP}
    for path, operations in result["paths"].items():
        for method, operation in operations.items():
            for code in _mistakes(path, method, operation):
                operation["responses"].setdefault(str(code), _answer(path, code))
            operation["responses"] = dict(sorted(operation["responses"].items()))
    return result


def _mistakes(path: str, method: str, operation: dict[str, Any]) -> list[int]:
    """What an operation may answer to a mistake of its caller, or while something is missing."""
    if path == "/api/v1/schema":
        return [503]
    codes = {400, 503}
    if path not in OPEN or method == "post":
        codes |= {401, 403}
    if "{" in path or any(p["in"] == "query" for p in operation.get("parameters", ())):
        codes.add(404)
    if "{" in path:
        codes.add(409)
    if method != "get":
        codes |= {404, 409, 413, 415, 422}
    if method in ("patch", "put", "delete"):
        codes.add(412)
    if path in INTAKE or path.startswith("/api/v1/uploads/"):
        codes |= {429, 507}
    if path in ("/api/v1/session", "/api/v1/session/password"):
        codes.add(429)
    if path in LINKS:
        codes.add(410)
    return sorted(codes)


def _answer(path: str, code: int) -> dict[str, Any]:
    family = "Status" if path == "/v1/metrics" else "Problem"
    return {"$ref": f"#/components/responses/{family}{code}"}


BINARY = {"schema": {"type": "string", "format": "binary"}}
STATUS = {
    "type": "object",
    "description": "google.rpc.Status",
    "properties": {"code": {"type": "integer"}, "message": {"type": "string"}},
}
PROBLEM_CONTENT = {TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}}
STATUS_CONTENT = {"application/x-protobuf": BINARY, "application/json": {"schema": STATUS}}
SECURITY = [{"session": []}, {"token": []}]
EVENTS = {
    "operationId": "events",
    "description": "Server-sent hints: `event` is what changed, `data` is JSON that names which. Never data; read again what they point at.",
    "tags": ["api"],
    "security": [{"session": []}],
    "responses": {
        "200": {
            "description": "An endless stream, with a heartbeat.",
            "content": {"text/event-stream": {"schema": {"type": "string"}}},
        }
    },
}
OTLP = {
    "operationId": "otlp_metrics",
    "description": "OTLP/HTTP metrics (ExportMetricsServiceRequest), plain or gzipped. A failure is answered as google.rpc.Status.",
    "tags": ["v1"],
    "security": SECURITY,
    "parameters": [
        {"in": "header", "name": "Idempotency-Key", "schema": {"type": "string", "maxLength": 200}},
        {
            "in": "header",
            "name": "Content-Encoding",
            "schema": {"type": "string", "enum": ["gzip", "identity"]},
        },
    ],
    "requestBody": {
        "content": {"application/x-protobuf": BINARY, "application/json": {"schema": {"type": "object"}}}
    },
    "responses": {
        "200": {
            "description": "ExportMetricsServiceResponse: what was refused, if anything.",
            "content": {"application/x-protobuf": BINARY, "application/json": {"schema": {"type": "object"}}},
        }
    },
}
