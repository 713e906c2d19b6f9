"""The berth planner: every ship gets the berth where it is served first, by length and draught."""

BERTHS = [(f"quay {number}", 80 + 35 * (number % 7), 4.0 + 0.7 * (number % 5)) for number in range(1, 19)]


def fleet(count):
    """Yield made-up ships: name, length, draught, arrival in minutes, stay in minutes."""
    state = 20_011
    for number in range(count):
        state = (state * 48_271) % 2_147_483_647
        length, draught = 60 + state % 190, 2.5 + state % 37 / 10
        yield f"ship {number + 1:04d}", length, draught, number * 11 + state % 90, 45 + state % 300


def plan(count):
    """Yield a line for each ship that waits longer than four hours, and the sum of all waiting."""
    free = {name: 0 for name, _, _ in BERTHS}
    waited = turned_away = 0
    for ship, length, draught, arrival, stay in fleet(count):
        best = None
        for name, longest, deepest in BERTHS:
            if length <= longest and draught <= deepest:
                start = max(arrival, free[name])
                if best is None or (start, longest) < best[:2]:
                    best = (start, longest, name)
        if best is None:
            turned_away += 1
            continue
        start, _, name = best
        free[name] = start + stay
        waited += start - arrival
        if start - arrival > 240:
            yield f"{ship} waits {start - arrival} min for {name}"
    yield f"waiting in all {waited} min, {turned_away} turned away"
