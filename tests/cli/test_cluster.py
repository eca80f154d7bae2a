"""Scanning on a cluster: the same files as one process writes, checked code, and addresses that may be used."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import time

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from watchtide.engine.many import clusters, run
from watchtide.engine.many.clusters import Address, ClusterError

WATCHTIDE = (sys.executable, "-m", "watchtide.cli.main")


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


@contextlib.contextmanager
def running(port, workers=2, **environment):
    """`watchtide cluster run`, once it says that it is ready: its process and the address that it names."""
    command = [*WATCHTIDE, "cluster", "run", "--workers", str(workers), "--port", str(port)]
    process = subprocess.Popen(
        command,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        env={**os.environ, **environment},
    )
    try:
        line = process.stdout.readline()
        assert line.startswith("Cluster is ready: "), line
        yield process, line.split(": ", 1)[1].strip()
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(30)


@pytest.fixture(scope="module")
def table(tmp_path_factory):
    """Twelve hourly streams of six weeks with a spike each."""
    n, rng = 24 * 42, np.random.default_rng(8)
    hours = np.arange(n)
    parts = []
    for k in range(12):
        values = 50 + 10 * np.sin(2 * np.pi * hours / 24) + rng.normal(0, 1, n)
        values[700 + k] += 15
        times = (1_780_000_000 + 3600 * hours) * 10**6
        columns = {
            "time": pa.array(times, pa.timestamp("us", "UTC")),
            "value": values,
            "place": [f"p{k}"] * n,
        }
        parts.append(pa.table(columns))
    path = tmp_path_factory.mktemp("table") / "streams.parquet"
    pq.write_table(pa.concat_tables(parts), path)
    return path


def scan(table, folder, *options):
    """The bytes of every file that a scan writes, and its process."""
    folder.mkdir()
    out = {name: folder / name for name in ("points.parquet", "findings.csv", "summary.json")}
    files = [x for name, path in out.items() for x in (f"--{name.split('.')[0]}", str(path))]
    done = subprocess.run(
        [*WATCHTIDE, "scan", str(table), *files, *options], capture_output=True, text=True, check=False
    )
    return {name: path.read_bytes() for name, path in out.items() if path.exists()}, done


@pytest.fixture(scope="module")
def alone(table, tmp_path_factory):
    files, done = scan(table, tmp_path_factory.mktemp("alone") / "out")
    assert done.returncode == 0, done.stderr
    return files


def test_a_cluster_writes_what_one_process_writes(table, alone, tmp_path):
    with running(free_port()) as (process, address):
        files, done = scan(table, tmp_path / "out", "--cluster", address)
        assert done.returncode == 0, done.stderr
        assert files == alone and len(files) == 3
        begin = time.monotonic()
    assert process.returncode == 0 and time.monotonic() - begin < 25


def test_the_tasks_of_a_lost_worker_are_done_by_another(tmp_path):
    with running(free_port()) as (_, url):
        address = Address(url)
        with clusters.joined(address) as cluster:
            assert cluster.jobs == 2
            doing = [cluster.executor.submit(_kill_once, str(tmp_path), k) for k in range(6)]
            assert [f.result(60) for f in doing] == [k * k for k in range(6)]
        assert len(list(tmp_path.iterdir())) == 1


def _kill_once(folder, k):
    """The first worker to come here is killed; what it did is done again."""
    try:
        os.close(os.open(os.path.join(folder, "killed"), os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        return k * k
    os.kill(os.getpid(), signal.SIGKILL)


def test_what_is_cancelled_leaves_no_task_on_the_cluster():
    with running(free_port()) as (_, url):
        with pytest.raises(run.Cancelled), clusters.joined(Address(url)) as cluster:
            seen = []
            for one in run.each(
                _slowly,
                range(200),
                jobs=cluster.jobs,
                executor=cluster.executor,
                is_cancelled=lambda: len(seen) >= 2,
            ):
                seen.append(one)
        assert seen == list(range(len(seen))) and 2 <= len(seen) < 50
        with clusters._client(Address(url)) as client:
            deadline = time.monotonic() + 20
            while any(client.processing().values()) and time.monotonic() < deadline:
                time.sleep(0.1)
            assert not any(client.processing().values())


def _slowly(k):
    time.sleep(0.2)
    return k


def test_workers_with_other_code_are_refused():
    assert clusters.checked(clusters.code_digest(), clusters.pickled(pow, 3, 2)) == 9
    with pytest.raises(ClusterError, match="runs other code"):
        clusters.checked("other", clusters.pickled(pow, 3, 2))


@pytest.mark.parametrize(
    ("url", "why"),
    [
        ("127.0.0.1:8786", "write tls://host:port"), ("tcp://127.0.0.1", "write tls://host:port"),
        ("tls://127.0.0.1:8786", "needs a CA"), ("tcp://1.2.3.4:8786", "neither encrypted"),
        ("tcp://10.0.0.5:8786", "neither encrypted"),
    ],
)  # fmt: skip
def test_an_address_that_may_not_be_used_is_refused(url, why):
    with pytest.raises(ClusterError, match=why):
        Address(url)


def test_a_private_network_is_plain_only_when_allowed_outright():
    assert Address("tcp://10.0.0.5:8786", is_plain_allowed=True).url
    with pytest.raises(ClusterError, match="neither encrypted"):
        Address("tcp://1.2.3.4:8786", is_plain_allowed=True)


def test_a_cluster_that_is_not_there_ends_with_status_2(table, tmp_path):
    files, done = scan(table, tmp_path / "out", "--cluster", f"tcp://127.0.0.1:{free_port()}")
    assert done.returncode == 2 and "cannot be reached" in done.stderr and not files


def test_with_certificates_only_those_who_have_one_get_in(table, alone, tmp_path):
    files = certificates(tmp_path)
    environment = {clusters.VARIABLES[name]: str(path) for name, path in files.items()}
    with running(free_port(), **environment) as (_, url):
        assert url.startswith("tls://")
        with clusters.joined(Address(url, **{k: str(v) for k, v in files.items()})) as cluster:
            assert cluster.executor.submit(pow, 3, 2).result(30) == 9
        with (
            pytest.raises(ClusterError, match="cannot be reached"),
            clusters._client(Address(url.replace("tls", "tcp")), 3),
        ):
            pass


def certificates(folder):
    """A CA and a certificate of it for this host, by openssl."""
    run = lambda *a: subprocess.run(["openssl", *a], cwd=folder, check=True, capture_output=True)
    run(
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "ca.key",
        "-out",
        "ca.pem",
        "-days",
        "2",
        "-subj",
        "/CN=ours",
    )
    run(
        "req",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "own.key",
        "-out",
        "own.csr",
        "-subj",
        "/CN=127.0.0.1",
    )
    run(
        "x509",
        "-req",
        "-in",
        "own.csr",
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-out",
        "own.pem",
        "-days",
        "2",
    )
    return {"ca": folder / "ca.pem", "certificate": folder / "own.pem", "key": folder / "own.key"}
