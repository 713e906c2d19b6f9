"""The day's forecast: the wind at each station, asked of the weather service one after another."""

import json
from urllib.request import urlopen

from bystander_marks import items, phase
from tidebook.weather import STATIONS, Service


def asked(address, station):
    """Return what the service says of a station."""
    with phase("ask", station), urlopen(f"{address}/{station.replace(' ', '%20')}") as answer:
        return json.load(answer)


def forecast():
    """Yield a line a station."""
    with Service() as service:
        told = [asked(service.address, station) for station in STATIONS]
    items("stations", len(told))
    with phase("write"):
        for wind in told:
            yield f"{wind['station']}: wind {wind['wind']:.1f} m/s from {wind['from']:03d}"
