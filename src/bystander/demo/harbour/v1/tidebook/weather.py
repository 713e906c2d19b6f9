"""A stand-in for the remote weather service: it answers over HTTP on this machine, as slowly as the real one does.

Its slowness is drawn from the name of the station, so that every call of one station waits alike.
"""

import json
import threading
import time
import zlib
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

STATIONS = ("mole", "bar", "north quay", "south quay", "lock", "roads", "beacon", "narrows")


def latency(station):
    """Return how long the service takes to answer, in seconds."""
    return (4 + zlib.crc32(station.encode()) % 9) / 1000


class Answers(BaseHTTPRequestHandler):
    def do_GET(self):
        station = self.path.strip("/").replace("%20", " ")
        time.sleep(latency(station))
        seed = zlib.crc32(station.encode())
        body = json.dumps({"station": station, "wind": seed % 180 / 10, "from": seed // 7 % 36 * 10}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *words):
        pass


class Service:
    """The service, up for the length of a `with`; `address` is where it answers."""

    def __enter__(self):
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, args=(0.01,), name="weather service", daemon=True).start()
        return self

    def __exit__(self, *error):
        self.server.shutdown()
        self.server.server_close()
