"""The day's forecast: the wind at each station, asked of the weather service four at a time."""

import json
from concurrent.futures import ThreadPoolExecutor
from urllib.request import urlopen

from bystander_marks import items, phase
from tidebook.weather import STATIONS, Service


def asked(address, station):
    """Return what the service says of a station."""
    with phase("ask", station), urlopen(f"{address}/{station.replace(' ', '%20')}") as answer:
        return json.load(answer)


def forecast():
    """Yield a line a station."""
    with Service() as service, ThreadPoolExecutor(4, thread_name_prefix="asker") as askers:
        told = list(askers.map(lambda station: asked(service.address, station), STATIONS))
    items("stations", len(told))
    with phase("write"):
        for wind in told:
            yield f"{wind['station']}: wind {wind['wind']:.1f} m/s from {wind['from']:03d}"
