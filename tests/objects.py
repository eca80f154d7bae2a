"""An object store with an S3 interface on loopback, for tests."""

import contextlib
from collections.abc import Iterator

from moto.server import ThreadedMotoServer

KEY, SECRET, BUCKET = "AKIATEST", "secret", "harbour"


@contextlib.contextmanager
def served() -> Iterator[str]:
    """Its address; a bucket is there. Empty at the start, and gone at the end."""
    import boto3

    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    address = f"http://{host}:{port}"
    try:
        client = boto3.client(
            "s3",
            endpoint_url=address,
            aws_access_key_id=KEY,
            aws_secret_access_key=SECRET,
            region_name="us-east-1",
        )
        client.create_bucket(Bucket=BUCKET)
        yield address
    finally:
        server.stop()


def options(address: str) -> tuple[tuple[str, str], ...]:
    """What a client is given to reach it."""
    return ("endpoint_url", address), ("key", KEY), ("secret", SECRET)
