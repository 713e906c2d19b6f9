"""Heights of the water, from a sum of harmonic waves."""

import math

WAVES = """
M2 12.4206 1.42 0.3
S2 12.0000 0.51 1.1
N2 12.6583 0.29 2.0
K1 23.9345 0.12 0.7
O1 25.8193 0.10 1.9
"""


def read_waves():
    found = []
    for line in WAVES.split("\n"):
        if line.strip():
            name, period, amplitude, phase = line.split()
            found.append((name, float(period), float(amplitude), float(phase)))
    return found


def height(hour):
    total = 3.1
    for _, period, amplitude, phase in read_waves():
        total += amplitude * math.cos(2 * math.pi * hour / period - phase)
    return total


def heights(days):
    found = []
    step = 0.1
    for number in range(int(days * 24 / step)):
        hour = number * step
        found.append((hour, height(hour)))
    return found


def turning(found):
    high = []
    for before, at, after in zip(found, found[1:], found[2:]):
        if before[1] < at[1] >= after[1]:
            high.append(at)
    return high
