"""A stand-in for the chart plotter: it draws on its own, sheet after sheet, while the program goes on."""

import queue
import sys
import threading
import time

from bystander_marks import phase

SHEET_S = 0.007


class Plotter:
    """A plotter; sheets that are sent wait in its queue. It is done when its `with` is left."""

    def __enter__(self):
        sys.setswitchinterval(0.0002)  # a device does not wait for the interpreter
        self.sheets = queue.Queue()
        self.thread = threading.Thread(target=self._plot, name="plotter")
        self.thread.start()
        return self

    def send(self, name, points):
        self.sheets.put((name, points))

    def _plot(self):
        while (sheet := self.sheets.get()) is not None:
            with phase("plot", sheet[0]):
                time.sleep(SHEET_S)

    def __exit__(self, *error):
        with phase("wait for the plotter"):
            self.sheets.put(None)
            self.thread.join()
