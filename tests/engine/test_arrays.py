"""Kept arrays are read by many threads at once, as a server does."""

import gc
import io
import sys
import threading

import numpy as np
import pytest

from watchtide.engine.keep import arrays


class Litter:
    """What the collector finds: ending it runs Python code, in which threads change."""

    def __init__(self):
        self.self = self

    def __del__(self):
        sum(range(50))


@pytest.fixture
def restless():
    """Threads change often, and the collector runs often: what happens now and then happens at once."""
    before = sys.getswitchinterval(), gc.get_threshold()
    sys.setswitchinterval(1e-6)
    gc.set_threshold(20)
    yield
    sys.setswitchinterval(before[0])
    gc.set_threshold(*before[1])


def test_threads_that_read_at_once_all_get_their_arrays(restless):
    out = io.BytesIO()
    np.savez(out, **{f"a{i}": np.arange(i) for i in range(20)})
    data, wrong = out.getvalue(), []

    def reading(depth):
        if depth:
            return reading(depth - 1)
        try:
            for _ in range(40):
                Litter()
                kept = arrays.load(io.BytesIO(data))
                assert all(len(kept[f"a{i}"]) == i for i in range(20))
        except BaseException as error:
            wrong.append(error)

    # At depths of their own, as requests and jobs are.
    threads = [threading.Thread(target=reading, args=(5 * k,)) for k in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not wrong
