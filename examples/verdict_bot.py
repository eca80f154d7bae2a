"""A bot on a hook: what begins while the gates are closed is foreseen, and goes into the logbook so.

python verdict_bot.py PORT http://127.0.0.1:8400 TOKEN SECRET

A route of the kind hook sends CloudEvents, signed as Standard Webhooks has it, to http://HOST:PORT/. The token needs the scope write; the secret is shown when
the route is made.
"""

import base64
import hmac
import json
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from watchtide.client import Client

# Hours of the night, UTC, in which nobody passes the gates.
CLOSED = range(1, 4)
MOST_BYTES, MOST_AGE_S = 1 << 20, 300


def is_genuine(headers, body: bytes, secret: str) -> bool:
    """Whether a request was signed with the secret, and lately."""
    name, stamp = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    if not stamp.isdigit() or abs(time.time() - int(stamp)) > MOST_AGE_S:
        return False
    key = base64.b64decode(secret.removeprefix("whsec_"))
    proof = base64.b64encode(hmac.digest(key, f"{name}.{stamp}.".encode() + body, "sha256")).decode()
    return any(
        hmac.compare_digest(f"v1,{proof}", one) for one in headers.get("webhook-signature", "").split()
    )


def judge(server: Client, event: dict) -> str:
    """What became of an event, in words."""
    if event["type"] != "watchtide.finding.began":
        return "nothing to judge"
    data = event["data"]
    hour = int(data["start"][11:13])
    if hour not in CLOSED:
        return "left for people"
    entry = server.log(
        data["start"], data["end"], "foreseen", scope=data["series"], note="the gates were closed"
    )
    return f"foreseen, entry {entry['id']}"


class Hook(BaseHTTPRequestHandler):
    server: "Bot"

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length", 0))
        if length > MOST_BYTES:
            return self.send_error(413)
        body = self.rfile.read(length)
        if not is_genuine(self.headers, body, self.server.secret):
            return self.send_error(401)
        print(judge(self.server.client, json.loads(body)), flush=True)
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_) -> None:
        pass


class Bot(ThreadingHTTPServer):
    def __init__(self, port: int, client: Client, secret: str) -> None:
        super().__init__(("127.0.0.1", port), Hook)
        self.client, self.secret = client, secret


if __name__ == "__main__":
    port, address, token, secret = sys.argv[1:5]
    with Client(address, token) as client, Bot(int(port), client, secret) as bot:
        print("listening", flush=True)
        bot.serve_forever()
