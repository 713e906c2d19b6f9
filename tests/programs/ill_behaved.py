"""Programs that behave ill, each in its own way; run as `ill_behaved.py NAME`, or called as `ill_behaved:NAME`.

They are what a trial may do by mistake or by malice to Bystander, to its scratch, to itself and to the machine. Each
ends by itself unless not ending is its ill.
"""

import base64
import ctypes
import json
import os
import resource
import shutil
import signal
import socket
import struct
import sys
import threading
import time

SPANS, ANSWER = "spans.json", "answer.txt"
LAUNCHER = os.getppid()
DONE = []
LIBC = ctypes.CDLL(None, use_errno=True)


def marks():
    return os.environ.get("BYSTANDER_MARKS", "/dev/null")


def told():
    return os.path.dirname(marks())


def scratch():
    return os.path.dirname(told())


def bystander():
    with open("/proc/%d/stat" % LAUNCHER) as file:
        return int(file.read().rsplit(")", 1)[1].split()[1])


def tell(text):
    with open(marks(), "a") as file:
        file.write(text)


def span(**more):
    one = {"name": "a", "startTimeUnixNano": str(time.time_ns()), "endTimeUnixNano": str(time.time_ns()), **more}
    return {"resourceSpans": [{"scopeSpans": [{"spans": [one]}]}]}


def leave_spans(text):
    with open(SPANS, "w") as file:
        file.write(text)


def cleared(path):
    if os.path.isdir(path) and not os.path.islink(path):
        shutil.rmtree(path)
    elif os.path.lexists(path):
        os.unlink(path)
    return path


def background(seconds=60.0, setsid=True):
    """Leave a process behind that nobody waits for."""
    if os.fork():
        return
    if setsid:
        os.setsid()
    if os.fork():
        os._exit(0)
    time.sleep(seconds)
    os._exit(0)


# It does not end.


def never_ends():
    while True:
        pass


def sleeps():
    time.sleep(600)


def ignores_every_signal():
    for number in range(1, 65):
        try:
            signal.signal(number, signal.SIG_IGN)
        except (OSError, ValueError):
            pass
    time.sleep(600)


def stops_itself():
    os.kill(os.getpid(), signal.SIGSTOP)


def stops_its_group():
    os.kill(0, signal.SIGSTOP)


def waits_for_input_of_a_terminal():
    os.kill(os.getpid(), signal.SIGTTIN)


def real_time_loop():
    try:
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(1))
    except OSError:
        pass
    while True:
        pass


# It leaves processes behind, or makes too many.


def daemon():
    background()


def daemons():
    for _ in range(40):
        background()


def daemon_without_output():
    for fd in (0, 1, 2):
        os.close(fd)
    background()


def fork_chain():
    for _ in range(300):
        if os.fork():
            os._exit(0)
        os.setsid()
    time.sleep(60)


def endless_fork_chain():
    while True:
        if os.fork():
            os._exit(0)
        os.setsid()


def fork_storm():
    for _ in range(7):
        os.fork()
    while True:
        time.sleep(0.01)


def zombies():
    for _ in range(200):
        if not os.fork():
            os._exit(0)


def adopts_orphans_itself():
    LIBC.prctl(36, 1, 0, 0, 0)
    background(setsid=False)


def new_namespace():
    try:
        LIBC.unshare(0x20000000)
    except AttributeError:
        pass
    background()


def threads():
    for _ in range(300):
        threading.Thread(target=time.sleep, args=(60,), daemon=True).start()


def daemon_that_floods():
    if os.fork():
        return
    os.setsid()
    while True:
        os.write(1, b"x" * 65536)


def child_that_ignores_term():
    if not os.fork():
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        time.sleep(60)
        os._exit(0)


# It says too much.


def floods_output():
    while True:
        os.write(1, b"x" * 65536)


def floods_errors():
    while True:
        os.write(2, b"x" * 65536)


def floods_marks():
    with open(marks(), "a") as file:
        for _ in range(40):
            file.write("thread\t1\t1\tx\n" * 100_000)


def output_of_a_terabyte():
    os.ftruncate(1, 2**40)
    time.sleep(600)


def escape_sequences():
    print("\x1b[2J\x1b]0;gone\x07\x9b31m\u202egnihton" + "\x00" * 20)
    sys.exit(3)


def many_names():
    tell("".join("reading\tname%d\t1\n" % i for i in range(20_000)))


def many_items():
    tell("".join("items\tname%d\t1\n" % i for i in range(20_000)))


def many_lines():
    tell("x\n" * 600_000)


def many_phases():
    one = struct.pack("<qqq", time.monotonic_ns(), 1, -1)
    tell("phases\tx\t\t1\t1\t%s\n" % base64.b64encode(one * 1_000_000).decode())


def deep_phases():
    now = time.monotonic_ns()
    packed = b"".join(struct.pack("<qqq", now + i, 2 * (200_000 - i), -1) for i in range(200_000))
    tell("phases\tx\t\t1\t1\t%s\n" % base64.b64encode(packed).decode())


def many_phase_names():
    now = time.monotonic_ns()
    tell("".join("phase\t%d\t1\tname%d\tlabel%d\t%d\t%d\n" % (now + i, i, i, i, i) for i in range(50_000)))


def one_endless_line():
    tell("phase\t" + "9" * 10_000_000)


# It says what cannot be.


def broken_marks():
    tell(
        "interval\tx\nintervals\tx\t[]\ninterval\tx\tnan\nreading\tx\t%s\nreading\ty\t1e999\nitems\tz\t1e308\n"
        "items\tz\t1e308\ndeadline\tx\tinf\nthread\t1e999\t1\tx\nphase\t%s\t1\tx\nphase\t-1\t1\tx\nphases\tx\t\t1\t1\t!!\n"
        "cost\t1\t%s\nphase\t1\t1\tx\t\t%s\t1\nreading\tw\t1e300\tGiB\n\n\t\t\t\n" % (("9" * 400,) * 4)
    )


def binary_marks():
    with open(marks(), "ab") as file:
        file.write(os.urandom(200_000))


def control_characters_in_names():
    tell("reading\t\x1b[31m|<script>\u202e\x9b\t1\t<b>`|\nphase\t1\t1\t\x00\x07\n")


def half_letters_in_spans():
    leave_spans(json.dumps(span(name="\ud800", attributes=[{"key": "label", "value": {"x": "\udfff"}}])))


def infinite_thread():
    leave_spans(json.dumps(span(attributes=[{"key": "thread.id", "value": {"x": 0}}])).replace('"x": 0', '"x": 1e999'))


def endless_numbers_in_spans():
    leave_spans(json.dumps(span()).replace('"startTimeUnixNano": "', '"startTimeUnixNano": "' + "9" * 5000))


def circle_of_spans():
    both = [span(spanId=a, parentSpanId=b) for a, b in ("ab", "ba")]
    leave_spans("\n".join(json.dumps(one) for one in both))


def deep_spans():
    leave_spans("[" * 200_000)


def wide_spans():
    leave_spans("[" + "{}," * 5_000_000 + "{}]")


def spans_that_are_none():
    leave_spans('{"resourceSpans": {"a": 3}}')


# It puts something else in the place of a file.


def pipe_for_marks():
    os.mkfifo(cleared(marks()))


def endless_device_for_marks():
    os.symlink("/dev/zero", cleared(marks()))


def folder_for_marks():
    os.mkdir(cleared(marks()))


def socket_for_marks():
    os.chdir(told())
    socket.socket(socket.AF_UNIX).bind("marks")


def unreadable_marks():
    tell("items\tx\t1\n")
    os.chmod(marks(), 0)


def pipe_for_spans():
    os.mkfifo(cleared(SPANS))


def endless_device_for_spans():
    os.symlink("/dev/zero", cleared(SPANS))


def folder_for_spans():
    os.mkdir(cleared(SPANS))


def pipe_for_the_answer():
    os.mkfifo(cleared(ANSWER))


def endless_device_for_the_answer():
    os.symlink("/dev/zero", cleared(ANSWER))


def folder_for_the_answer():
    os.mkdir(cleared(ANSWER))


def link_to_the_password_file_for_the_answer():
    os.symlink("/etc/passwd", cleared(ANSWER))


def pipe_for_output():
    os.mkfifo(cleared(os.path.join(scratch(), "output")))


def endless_device_for_output():
    os.symlink("/dev/zero", cleared(os.path.join(scratch(), "output")))


def pipe_for_results():
    os.mkfifo(cleared(os.path.join(told(), "results")))
    os._exit(0)


def forged_results():
    with open(os.path.join(told(), "results"), "w") as file:
        file.write('{"iterations": 0, "elapsed_ns": [1e999, "x"], "loop_ns": null}')
    os._exit(0)


def deletes_the_scratch():
    shutil.rmtree(scratch(), ignore_errors=True)


def deletes_what_it_may_write():
    shutil.rmtree(told(), ignore_errors=True)


def renames_the_scratch():
    os.rename(scratch(), scratch() + "-elsewhere")
    shutil.rmtree(scratch() + "-elsewhere", ignore_errors=True)


def locks_the_scratch_away():
    os.chmod(told(), 0)


def fills_the_scratch():
    for i in range(20):
        with open(os.path.join(told(), "more%d" % i), "wb") as file:
            file.write(b"x" * 2_000_000)


def writes_the_launchers_files():
    for name in ("output-stub", "account", "results"):
        with open(os.path.join(scratch(), name), "w") as file:
            json.dump({"started_ns": time.monotonic_ns(), "user_s": 1e9, "on_cpu_ns": 1}, file)


def deletes_its_folder():
    os.makedirs("below/here", exist_ok=True)
    os.chdir("below/here")
    shutil.rmtree("../../below")


# It turns against its launcher.


def kills_its_launcher():
    os.kill(LAUNCHER, signal.SIGKILL)
    time.sleep(600)


def kills_its_launcher_and_leaves_a_daemon():
    background(600)
    os.kill(LAUNCHER, signal.SIGKILL)


def asks_its_launcher_to_leave():
    os.kill(LAUNCHER, signal.SIGTERM)
    time.sleep(600)


def an_unknown_signal_to_its_launcher():
    os.kill(LAUNCHER, signal.SIGUSR1)
    time.sleep(600)


def interrupts_its_launcher():
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGQUIT, signal.SIGTSTP):
        os.kill(LAUNCHER, number)


def stops_its_launcher():
    os.kill(LAUNCHER, signal.SIGSTOP)


def stops_its_launcher_and_stays():
    os.kill(LAUNCHER, signal.SIGSTOP)
    time.sleep(600)


def stops_its_launcher_for_a_moment():
    os.kill(LAUNCHER, signal.SIGSTOP)
    time.sleep(0.1)
    os.kill(LAUNCHER, signal.SIGCONT)


def traces_its_launcher():
    LIBC.ptrace(16, LAUNCHER, 0, 0)  # attach
    time.sleep(600)


def no_more_files_for_its_launcher():
    resource.prlimit(LAUNCHER, resource.RLIMIT_NOFILE, (0, 0))


def slows_its_launcher_down():
    os.setpriority(os.PRIO_PROCESS, LAUNCHER, 7)


def no_more_time_for_its_launcher():
    resource.prlimit(LAUNCHER, resource.RLIMIT_CPU, (0, 0))
    time.sleep(600)


def forged_account():
    os.kill(LAUNCHER, signal.SIGSTOP)
    with open("/proc/%d/fd/1" % LAUNCHER, "wb", buffering=0) as file:
        file.write(b'{"status": "ok", "detail": 0}\n')
    time.sleep(0.1)
    os.kill(LAUNCHER, signal.SIGCONT)


def noise_instead_of_an_account():
    with open("/proc/%d/fd/1" % LAUNCHER, "wb", buffering=0) as file:
        file.write(b"\xff\xfe[[[\n")


def stops_bystander_for_a_moment():
    if DONE:  # cut in the middle, it could not let it go on: nobody but a user does
        return
    DONE.append(True)
    os.kill(bystander(), signal.SIGSTOP)
    time.sleep(0.2)
    os.kill(bystander(), signal.SIGCONT)


# It ends ill.


def crashes():
    ctypes.string_at(0)


def aborts():
    os.abort()


def strange_exit():
    os._exit(255)


def kills_its_group():
    os.kill(0, signal.SIGKILL)


def becomes_something_else():
    os.execv("/bin/sleep", ["sleep", "600"])


def takes_all_memory():
    held = []
    while True:
        held.append(bytearray(16 * 2**20))


def opens_all_files():
    held = []
    while True:
        held.append(os.open("/dev/null", os.O_RDONLY))


def closes_everything():
    os.closerange(0, 1024)


# It ends the observation, which can be resumed.


def kills_bystander():
    os.kill(bystander(), signal.SIGKILL)
    time.sleep(600)


def kills_bystander_and_its_launcher():
    os.kill(bystander(), signal.SIGKILL)
    os.kill(LAUNCHER, signal.SIGKILL)


def asks_bystander_to_leave():
    os.kill(bystander(), signal.SIGTERM)
    time.sleep(600)


def no_more_time_for_bystander():
    resource.prlimit(bystander(), resource.RLIMIT_CPU, (1, 1))
    time.sleep(600)


def no_more_files_for_bystander():
    resource.prlimit(bystander(), resource.RLIMIT_NOFILE, (0, 0))


FATAL = (
    "kills_bystander", "kills_bystander_and_its_launcher", "asks_bystander_to_leave", "no_more_time_for_bystander",
    "no_more_files_for_bystander",
)  # fmt: skip
_HELPERS = (marks, told, scratch, bystander, tell, span, leave_spans, cleared, background)
NAMES = tuple(
    name for name, value in list(globals().items())
    if callable(value) and getattr(value, "__module__", "") == __name__ and value not in _HELPERS
)  # fmt: skip

if __name__ == "__main__":
    globals()[sys.argv[1]]()
