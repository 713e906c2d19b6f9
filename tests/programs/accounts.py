"""A program that keeps its own account: how long each of its parts took, printed as JSON at its end."""

import asyncio
import hashlib
import json
import os
import subprocess
import sys
import threading
import time

ACCOUNT = {}
BLOCK = b"tide" * 200000


def kept(function):
    """Add the elapsed time of each call, in this process, to the account."""

    def run(*given):
        begun = time.perf_counter()
        try:
            return function(*given)
        finally:
            ACCOUNT[function.__name__] = ACCOUNT.get(function.__name__, 0.0) + time.perf_counter() - begun

    return run


def half(n=9000):
    x = 0
    for i in range(n):
        x += i * i
    return x


def third(n=5400):
    x = 0
    for i in range(n):
        x += i * i
    return x


def seventh(n=2700):
    x = 0
    for i in range(n):
        x += i * i
    return x


def twentieth(n=900):
    x = 0
    for i in range(n):
        x += i * i
    return x


def holding():
    """A built-in that holds the interpreter's lock."""
    return sum(range(40000))


def releasing():
    """A built-in that releases it."""
    return hashlib.sha256(BLOCK).digest()


def turned(value):
    x = 0
    for i in range(30):
        x += i * value
    return -x


def ordered():
    return sorted(range(300), key=turned)


def recursive(n):
    x = 0
    for i in range(30):
        x += i * n
    return recursive(n - 1) + x if n else x


def given_one_by_one(n):
    for k in range(n):
        x = 0
        for i in range(30):
            x += i * k
        yield x


def generated():
    return sum(given_one_by_one(300))


async def step(k):
    x = 0
    for i in range(300):
        x += i * k
    await asyncio.sleep(0)
    return x


async def several():
    return sum(await asyncio.gather(*(step(k) for k in range(30))))


def tasks():
    return asyncio.run(several())


def nap():
    time.sleep(0.15)


def crane(seconds):
    end = time.thread_time() + seconds
    while time.thread_time() < end:
        pass


def threaded():
    worker = threading.Thread(target=crane, args=(0.12,), name="crane")
    worker.start()
    worker.join()


def forked():
    child = os.fork()
    if not child:
        crane(0.12)
        os._exit(0)
    os.waitpid(child, 0)


def spawned():
    subprocess.run([sys.executable, "-S", __file__, "child"], check=True)


PARTS = (half, third, seventh, twentieth, holding, releasing, ordered, generated)
OTHERS = (tasks, nap, threaded, forked, spawned)


def main(rounds):
    for _ in range(rounds):
        for part in PARTS:
            kept(part)()
        kept(recursive)(200)
    for part in OTHERS:
        kept(part)()
    json.dump(ACCOUNT, sys.stdout)


if __name__ == "__main__":
    if sys.argv[1:] == ["child"]:
        crane(0.12)
    else:
        main(int(sys.argv[1]))
