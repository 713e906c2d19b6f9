"""The chart of the coming days: a sheet for each day, drawn here and plotted by the plotter."""

from bystander_marks import items, phase
from tidebook import tides
from tidebook.plotter import Plotter

EVERY = 2  # steps of the tide table


def sheet(day):
    """Return the points of one sheet: hour and level."""
    levels = tides.day_levels("north", day)[::EVERY]
    return [(i * EVERY * tides.STEP_MINUTES / 60, round(level, 3)) for i, level in enumerate(levels)]


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
