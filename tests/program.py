"""The installed program, started from a process that has loaded it already: the same entry point, but for its imports.

Most of a short command's time is loading libraries, and the tests run some hundred commands. So one process a test
session loads them once and forks for each command: the child takes over the command's folder, environment, arguments
and descriptors, and calls what the installed script calls. It is left out where the start itself is tested.
"""

from __future__ import annotations

import array
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

LOADED = (
    "bystander.cli", "bystander.flow.commands.observe", "bystander.flow.commands.check",
    "bystander.flow.commands.decide", "bystander.flow.commands.report", "bystander.flow.commands.records",
    "bystander.archive.writer", "bystander.archive.care", "bystander.cli.shown.checked", "bystander.cli.shown.tables",
    "bystander.cli.shown.live", "bystander.cli.inside", "bystander.cli.shown.inside.places",
    "bystander.flow.onward.chain", "bystander.flow.onward.bisect", "bystander.cli.shown.ladders",
    "bystander.report.ladder", "bystander.flow.chains.written", "bystander.flow.onward.earlier",
    "bystander.flow.quick.again", "bystander.archive.added", "bystander.cli.shown.brief",
    "numpy.polynomial.legendre",
    "bystander.flow.commands.inspect", "bystander.flow.commands.leads", "bystander.report.page", "pandas",
)  # fmt: skip


class Program:
    """A process that forks one child for each command; one command at a time."""

    def __init__(self) -> None:
        self.cpu_s = 0.0  # of all commands so far
        self._socket, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        words = [sys.executable, __file__, str(theirs.fileno())]
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        self._process = subprocess.Popen(words, pass_fds=[theirs.fileno()], env=environment)
        theirs.close()

    def run(
        self, words: Sequence[str], cwd: Path, environment: Mapping[str, str], timeout_s: float
    ) -> subprocess.CompletedProcess[str]:
        """Run a command to its end and return what it printed."""
        with (
            tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, Path(os.devnull).open("rb") as nothing
        ):  # fmt: skip
            fds = array.array("i", [nothing.fileno(), out.fileno(), err.fileno()])
            told = json.dumps({"words": list(words), "cwd": str(cwd), "environment": dict(environment)}).encode()
            with tempfile.TemporaryFile() as request:  # environments may be longer than a packet
                request.write(told)
                request.flush()
                fds.append(request.fileno())
                self._socket.sendmsg([b"run"], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, fds)])
                child = json.loads(self._socket.recv(1 << 16))["process"]
                self._socket.settimeout(timeout_s)
                try:
                    ended = json.loads(self._socket.recv(1 << 16))
                    code, self.cpu_s = ended["code"], self.cpu_s + ended["cpu_s"]
                except TimeoutError:
                    os.kill(child, signal.SIGKILL)
                    raise
                finally:
                    self._socket.settimeout(None)
            texts = []
            for file in (out, err):
                file.seek(0)
                texts.append(file.read().decode("utf-8", "replace"))
        return subprocess.CompletedProcess(["bystander", *words], code, *texts)

    def close(self) -> None:
        """End the process."""
        self._socket.close()
        self._process.wait()


def _serve(channel: socket.socket) -> None:
    import importlib

    for name in LOADED:
        importlib.import_module(name)
    while True:
        data, fds, _, _ = socket.recv_fds(channel, 16, 4)
        if not data:
            return
        child = os.fork()
        if not child:
            channel.close()
            try:
                _become(*fds)
            finally:
                os._exit(1)
        channel.send(json.dumps({"process": child}).encode())
        _, status, used = os.wait4(child, 0)
        for fd in fds:
            os.close(fd)
        told = {"code": os.waitstatus_to_exitcode(status), "cpu_s": used.ru_utime + used.ru_stime}
        channel.send(json.dumps(told).encode())


def _become(nothing: int, out: int, err: int, request: int) -> None:
    """Run one command in this process, and end it."""
    from bystander.__main__ import run

    with open(request, "rb") as file:
        file.seek(0)
        told = json.loads(file.read())
    for fd, place in ((nothing, 0), (out, 1), (err, 2)):
        os.dup2(fd, place)
        os.close(fd)
    os.chdir(told["cwd"])
    os.environ.clear()
    os.environ.update(told["environment"])
    time.tzset()
    encoding = told["environment"].get("PYTHONIOENCODING", "utf-8")
    sys.stdin = open(0, closefd=False)
    sys.stdout = open(1, "w", encoding=encoding, closefd=False)
    sys.stderr = open(2, "w", encoding=encoding, errors="backslashreplace", closefd=False)
    sys.argv = ["bystander", *told["words"]]
    code: object = 1
    try:
        run()
        code = 0
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        import traceback

        traceback.print_exc()
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):
            stream.flush()
    os._exit(code if isinstance(code, int) else 0 if code is None else 1)


if __name__ == "__main__":
    with suppress(KeyboardInterrupt):
        _serve(socket.socket(fileno=int(sys.argv[1])))
