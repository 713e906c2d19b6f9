"""Notices to skippers, written from templates."""

from string import Template

from tidebook.berths import fleet

TEMPLATE = Template(
    "To the skipper of $ship: berth clear from $start. Depth on the bar $depth m, yours is $draught m, "
    "so keep $margin m under the keel. $advice"
)
BAR = 6.4


def advice(draught):
    """Return what to tell a skipper."""
    room = BAR - draught
    return "Wait for the flood." if room < 1.0 else "Enter with care." if room < 2.0 else "Enter at any state of the tide."


def notices(count):
    """Yield a notice for each ship."""
    for ship, _, draught, arrival, _ in fleet(count):
        yield TEMPLATE.substitute(
            ship=ship, start=f"{arrival // 60 % 24:02d}:{arrival % 60:02d}", depth=f"{BAR:.1f}",
            draught=f"{draught:.1f}", margin=f"{BAR - draught:.1f}", advice=advice(draught),
        )
