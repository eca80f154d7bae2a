"""Hosts of a bench: network namespaces of this machine, with a delay between any two of them.

Every host and the machine itself have an interface whose packets a process here hands on, each after the delay; so needs no support
of the kernel but TUN. Needs root and `ip`. The machine is the first host of the net, and its database can be reached by TCP there.
"""

import contextlib
import fcntl
import heapq
import ipaddress
import os
import select
import shutil
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

NET = ipaddress.ip_network("10.77.0.0/24")
# Large packets, so that what hands them on costs little of two cores.
MTU = 32_000
TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 0x0001, 0x1000


@dataclass(frozen=True)
class Host:
    """One host; `namespace` is None for the machine itself."""

    address: str
    device: str
    namespace: str | None = None

    def start(
        self, command: list[str], environment: Mapping[str, str], **more: Any
    ) -> "subprocess.Popen[str]":
        """A process on this host, the leader of its group: `crash` ends all that it started too."""
        own = command if self.namespace is None else ["ip", "netns", "exec", self.namespace, *command]
        return subprocess.Popen(own, env=dict(environment), text=True, start_new_session=True, **more)

    def connect(self, *, is_up: bool = True) -> None:
        """Put the host on the net, or take it off: nothing that it sent or is sent arrives any more."""
        own = () if self.namespace is None else ("-n", self.namespace)
        _ip(*own, "link", "set", self.device, *(("mtu", str(MTU), "up") if is_up else ("down",)))


def why_not() -> str | None:
    """Why there can be no such hosts here; None where there can."""
    if os.geteuid() != 0:
        return "needs root"
    if not shutil.which("ip"):
        return "needs the command ip"
    return None if Path("/dev/net/tun").exists() else "needs /dev/net/tun"


def crash(process: "subprocess.Popen[str]") -> None:
    """End a process and all that it started, as a host that loses its power does."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()


@contextlib.contextmanager
def hosts(count: int, delay_ms: float, socket_of_database: Path | None = None) -> Iterator[list[Host]]:
    """The machine and `count` hosts beside it. delay_ms : of each packet, one way. socket_of_database : what port 3306 of the
    machine leads to."""
    if reason := why_not():
        raise RuntimeError(f"hosts of network namespaces: {reason}")
    own = f"wt{os.getpid()}"
    all_hosts = [Host(str(NET[i + 1]), f"{own}t{i}", f"{own}n{i}" if i else None) for i in range(count + 1)]
    with contextlib.ExitStack() as stack:
        ends = []
        for host in all_hosts:
            ends.append(_device(host.device))
            stack.callback(os.close, ends[-1])
            at = () if host.namespace is None else ("-n", host.namespace)
            if host.namespace is not None:
                _ip("netns", "add", host.namespace)
                stack.callback(_ip, "netns", "del", host.namespace)
                _ip("link", "set", host.device, "netns", host.namespace)
                _ip(*at, "link", "set", "lo", "up")
            _ip(*at, "addr", "add", f"{host.address}/{NET.prefixlen}", "dev", host.device)
            host.connect()
        command = [sys.executable, "-m", "bench.hosts", str(delay_ms), *map(str, ends)]
        network = subprocess.Popen(command, pass_fds=ends)
        stack.callback(network.wait)
        stack.callback(network.kill)
        if socket_of_database is not None:
            stack.enter_context(_led_to(socket_of_database, (all_hosts[0].address, 3306)))
        yield all_hosts


def _ip(*arguments: str) -> None:
    subprocess.run(["ip", *arguments], check=True, capture_output=True)


def _device(name: str) -> int:
    end = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(end, TUNSETIFF, struct.pack("16sH", name.encode(), IFF_TUN | IFF_NO_PI))
    return end


def hand_on(delay_s: float, ends: list[int]) -> None:
    """Hand each packet to the end that its address belongs to, after the delay, for as long as the process lives."""
    first = int(NET[1])
    waiting: list[tuple[float, int, int, bytes]] = []
    number = 0
    while True:
        wait = max(waiting[0][0] - time.monotonic(), 0) if waiting else None
        for end in select.select(ends, [], [], wait)[0]:
            with contextlib.suppress(OSError):
                while True:
                    packet = os.read(end, MTU + 64)
                    to = int.from_bytes(packet[16:20]) - first
                    if packet[0] >> 4 == 4 and 0 <= to < len(ends):
                        number += 1
                        heapq.heappush(waiting, (time.monotonic() + delay_s, number, ends[to], packet))
        while waiting and waiting[0][0] <= time.monotonic():
            _, _, to, packet = heapq.heappop(waiting)
            # A full queue drops packets, as a router does; so does an end that is off the net.
            with contextlib.suppress(OSError):
                os.write(to, packet)


@contextlib.contextmanager
def _led_to(path: Path, address: tuple[str, int]) -> Iterator[None]:
    """Connections to an address, led to a socket of this machine."""
    with socket.create_server(address, backlog=64) as server:
        threading.Thread(target=_lead, args=(server, path), daemon=True).start()
        try:
            yield
        finally:
            # Wakes who waits for connections: closed alone, the port stays taken for as long as that lasts.
            server.shutdown(socket.SHUT_RDWR)


def _lead(server: socket.socket, path: Path) -> None:
    with contextlib.suppress(OSError):
        while True:
            near, _ = server.accept()
            # As MariaDB does by tcp_keepalive_time, _interval and _probes of 10, 3 and 3.
            near.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
            for name, value in (
                (socket.TCP_KEEPIDLE, 10),
                (socket.TCP_KEEPINTVL, 3),
                (socket.TCP_KEEPCNT, 3),
            ):
                near.setsockopt(socket.IPPROTO_TCP, name, value)
            far = socket.socket(socket.AF_UNIX)
            try:
                far.connect(str(path))
            except OSError:
                near.close()
                continue
            for a, b in ((near, far), (far, near)):
                threading.Thread(target=_copy, args=(a, b), daemon=True).start()


def _copy(a: socket.socket, b: socket.socket) -> None:
    with contextlib.suppress(OSError):
        while data := a.recv(1 << 18):
            b.sendall(data)
    for one in (a, b):
        with contextlib.suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)


if __name__ == "__main__":
    hand_on(float(sys.argv[1]) / 1000, [int(end) for end in sys.argv[2:]])
