"""python -m tidebook day | gauge"""

import sys

from tidebook import berths, notices, telegrams, tides


def main(words):
    if words == ["gauge"]:
        print(telegrams.summary(telegrams.of_a_day()))
    else:
        heights = tides.heights(days=24)
        plan = berths.plan(berths.ships_of_a_day())
        print(notices.page(heights, plan))


main(sys.argv[1:])
