"""Notices to skippers, one line for each high water and each berth."""

from tidebook import tides


def line_of_ship(name, berth, hour):
    text = ""
    for word in ("Notice:", name, "lies", "at", "berth", str(berth), "from", str(hour), "h"):
        text = text + word + " "
    return text.rstrip()


def page(heights, plan):
    text = "Harbour office\n"
    for hour, height in tides.turning(heights):
        text = text + "High water %5.1f h %.3f m\n" % (hour, height)
    for name, berth, hour in plan:
        text = text + line_of_ship(name, berth, hour) + "\n"
    return text + words_of(heights)


def words_of(heights):
    marks = []
    for _, height in heights[::3]:
        level = "low" if height < 2 else "middle" if height < 4 else "high"
        marks = marks + [level[0]]
    return "".join(marks)
