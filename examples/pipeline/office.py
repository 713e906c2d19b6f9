"""The office's day, made up: it waits, takes memory and prints an answer."""

import time

PAUSE_S, MEGABYTES, ANSWER = 0.03, 1, "high water 4.2"
room = b"\1" * (MEGABYTES << 20)
time.sleep(PAUSE_S)
print(ANSWER)
