"""Which ship lies where: the shortest berth that is long enough."""

BERTHS = [(number, 40 + (number * 37) % 160) for number in range(60)]


def ships_of_a_day():
    return [("ship %d" % number, 30 + (number * 53) % 150) for number in range(70)]


def plan(ships):
    taken = []
    found = []
    for name, length in ships:
        best = None
        for number, long in BERTHS:
            hour = 0
            while (number, hour) in taken and hour < 5:
                hour += 1
            if long >= length and hour < 5:
                if best is None or (hour, long) < best[:2]:
                    best = (hour, long, number)
        if best is not None:
            taken.append((best[2], best[0]))
            found.append((name, best[2], best[0]))
    return found
