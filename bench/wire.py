"""A wire between the server and MariaDB that can be cut and slowed: a proxy from one Unix socket to another."""

import contextlib
import socket
import threading
import time
from pathlib import Path

PIECE = 1 << 16
OPEN, CUT, SLOW = "open", "cut", "slow"
# What each piece waits for on a slow wire.
SLOW_S = 0.05


class Wire:
    """Forwards connections from `near` to `far`. mode : open, cut (nothing passes, nobody connects), or slow."""

    def __init__(self, near: Path, far: Path) -> None:
        self.near, self.far, self.mode = near, far, OPEN
        self._pairs: set[tuple[socket.socket, socket.socket]] = set()
        self._lock = threading.Lock()
        self._door = socket.socket(socket.AF_UNIX)
        self._door.bind(str(near))
        near.chmod(0o777)
        self._door.listen(512)
        threading.Thread(target=self._accept, daemon=True).start()

    def cut(self) -> None:
        """Break every connection in the middle of whatever passes."""
        self.mode = CUT
        with self._lock:
            pairs, self._pairs = self._pairs, set()
        for pair in pairs:
            _close(*pair)

    def slow(self) -> None:
        self.mode = SLOW

    def open(self) -> None:
        self.mode = OPEN

    def _accept(self) -> None:
        while True:
            here, _ = self._door.accept()
            there = socket.socket(socket.AF_UNIX)
            try:
                if self.mode == CUT:
                    raise ConnectionRefusedError
                there.connect(str(self.far))
            except OSError:
                _close(here, there)
                continue
            pair = (here, there)
            with self._lock:
                self._pairs.add(pair)
            for one, other in ((here, there), (there, here)):
                threading.Thread(target=self._pump, args=(one, other, pair), daemon=True).start()

    def _pump(
        self, one: socket.socket, other: socket.socket, pair: tuple[socket.socket, socket.socket]
    ) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(PIECE):
                if self.mode == SLOW:
                    time.sleep(SLOW_S)
                other.sendall(data)
        with self._lock:
            self._pairs.discard(pair)
        _close(*pair)


def _close(*sockets: socket.socket) -> None:
    for one in sockets:
        with contextlib.suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
        one.close()
