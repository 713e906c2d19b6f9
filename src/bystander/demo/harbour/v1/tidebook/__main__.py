"""The command line of tidebook."""

import argparse
import sys


def main():
    parser = argparse.ArgumentParser(prog="tidebook")
    jobs = parser.add_subparsers(dest="job", required=True)
    table = jobs.add_parser("table", help="a tide table")
    table.add_argument("--port", default="north")
    table.add_argument("--days", type=int, default=30)
    jobs.add_parser("gauge", help="gauge telegrams").add_argument("--days", type=int, default=2)
    jobs.add_parser("berths", help="a berth plan").add_argument("--ships", type=int, default=40)
    jobs.add_parser("arrivals", help="the register of arrivals").add_argument("--ships", type=int, default=1000)
    jobs.add_parser("notices", help="notices to skippers").add_argument("--count", type=int, default=20)
    jobs.add_parser("forecast", help="the wind at each station, from the weather service")
    jobs.add_parser("chart", help="the chart of the day").add_argument("--sheets", type=int, default=12)
    jobs.add_parser("watch", help="the gauge watch").add_argument("--count", type=int, default=400)
    jobs.add_parser("moorings", help="the water under each ship").add_argument("--ships", type=int, default=400)
    jobs.add_parser("version", help="the version of the almanac format")
    asked = parser.parse_args()
    for line in JOBS[asked.job](asked):
        sys.stdout.write(line + "\n")


def table(asked):
    from tidebook import tides

    return tides.table(asked.port, asked.days)


def gauge(asked):
    from tidebook import telegrams

    return telegrams.summary(asked.days)


def berths(asked):
    from tidebook import berths as plan

    return plan.plan(asked.ships)


def arrivals(asked):
    from tidebook import arrivals as register

    return register.report(asked.ships)


def notices(asked):
    from tidebook import notices as office

    return office.notices(asked.count)


def forecast(asked):
    from tidebook import forecast as day

    return day.forecast()


def chart(asked):
    from tidebook import chart as day

    return day.chart(asked.sheets)


def watch(asked):
    from tidebook import watch as office

    return office.watch(asked.count)


def moorings(asked):
    from tidebook import moorings as survey

    return survey.moorings(asked.ships)


def version(asked):
    return ["almanac format 3"]


JOBS = {
    "table": table,
    "gauge": gauge,
    "berths": berths,
    "arrivals": arrivals,
    "notices": notices,
    "forecast": forecast,
    "chart": chart,
    "watch": watch,
    "moorings": moorings,
    "version": version,
}

if __name__ == "__main__":
    main()
