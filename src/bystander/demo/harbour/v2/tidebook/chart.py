"""The chart of the coming days: a sheet for each day, drawn here and plotted by the plotter."""

from bystander_marks import items, phase
from tidebook import tides
from tidebook.plotter import Plotter

EVERY_MINUTES = 40


def sheet(day):
    """Return the points of one sheet: hour and level."""
    mean, waves = tides.MEANS["north"], tides.waves_of("north")
    hours = [minute / 60 for minute in range(0, 24 * 60, EVERY_MINUTES)]
    return [(hour, round(tides.level(mean, waves, day * 24 + hour), 3)) for hour in hours]


def chart(sheets):
    """Yield a line a sheet."""
    told = []
    with Plotter() as plotter:
        for day in range(sheets):
            with phase("draw", f"sheet {day + 1}"):
                points = sheet(day)
            plotter.send(f"sheet {day + 1}", points)
            told.append(f"sheet {day + 1}: {len(points)} points, highest {max(level for _, level in points):.2f} m")
    items("sheets", sheets)
    yield from told
