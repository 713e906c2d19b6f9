"""The launcher against a C program that does vfork, exec and wait4 of /bin/true: medians in one run, in turn."""

from __future__ import annotations

import statistics
import subprocess
import tempfile
from pathlib import Path

from common import build_c, tell

from bystander.field import Launcher, ReadyCommand

SOURCE = r"""
#define _GNU_SOURCE
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>
static long long now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000000000LL + t.tv_nsec;
}
int main(void) {
    char *argv[] = {"true", NULL}, *envp[] = {"PATH=/usr/bin:/bin", NULL}, line[8];
    while (fgets(line, sizeof line, stdin)) {
        long long started = now();
        pid_t pid = vfork();
        if (pid == 0) { execve("/bin/true", argv, envp); _exit(127); }
        int status; struct rusage usage;
        wait4(pid, &status, 0, &usage);
        printf("%lld\n", now() - started);
        fflush(stdout);
    }
    return 0;
}
"""
ROUNDS = 600


def main() -> None:
    """Run both in turn and print how much more the launcher's median is."""
    command = ReadyCommand("/bin/true", ("true",), "/", {"PATH": "/usr/bin:/bin"}, 10.0)
    with tempfile.TemporaryDirectory() as folder, Launcher() as launcher:
        program = build_c(SOURCE, Path(folder))
        with subprocess.Popen([str(program)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as bare:
            assert bare.stdin
            assert bare.stdout
            floor, ours = [], []
            for _ in range(ROUNDS):
                bare.stdin.write("\n")
                bare.stdin.flush()
                floor.append(int(bare.stdout.readline()) / 1e6)
                ours.append(launcher.run(command).readings["elapsed"] * 1e3)
            bare.stdin.close()
    low, high = statistics.median(floor), statistics.median(ours)
    tell("C vfork, exec, wait4 of /bin/true, median", low, "ms", "the floor")
    tell("launcher, median", high, "ms", "as little more as can be")
    tell("launcher over C, medians", high - low, "ms", "under 0.3")
    tell("launcher over C, ratio", high / low, "times", "-")


if __name__ == "__main__":
    main()
