"""Telegrams of the gauges: "north;1735;412;7" is gauge, minute, height in centimetres, check digit."""

GAUGES = ("north", "south", "mole", "lock")


def of_a_day():
    found = []
    for minute in range(1440):
        for number, gauge in enumerate(GAUGES):
            height = 300 + (minute * 7 + number * 31) % 190
            found.append("%s;%d;%d;%d" % (gauge, minute, height, (minute + height) % 10))
    return found


def is_right(telegram):
    gauge, minute, height, check = telegram.split(";")
    return gauge in GAUGES and (int(minute) + int(height)) % 10 == int(check)


def parse(telegram):
    gauge, minute, height, _ = telegram.split(";")
    return gauge, int(minute), int(height)


def summary(found):
    sums = {}
    for telegram in found:
        if not is_right(telegram):
            continue
        gauge, _, height = parse(telegram)
        count, total = sums.get(gauge, (0, 0))
        sums[gauge] = count + 1, total + height
    lines = []
    for gauge, (count, total) in sums.items():
        lines.append("%s %d %.1f" % (gauge, count, total / count))
    return "\n".join(lines)
