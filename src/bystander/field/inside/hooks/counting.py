"""Counts every call of a Python program, by caller, line and callee, with the interpreter's own hook for that.

Standard library only, Python 3.8 and later.  Each thread has a table of its own: one for all would lose counts.
"""

import sys
import threading

telling = load("telling")  # noqa: F821 - whoever loads a hook gives it this
GENERATORS = 0x20 | 0x80 | 0x200  # flags of generators, coroutines and generators of both kinds
VERSION = 1
OURS = {__file__, telling.__file__}


class Counting(telling.Telling):
    """The tables of one process."""

    set_hook, get_hook = staticmethod(sys.setprofile), staticmethod(sys.getprofile)
    set_for_threads = staticmethod(threading.setprofile)
    took = "the program took the hook that counts away"

    def __init__(self, folder):
        super().__init__(folder)
        self.codes = {}  # code objects by their number: kept, so that no other gets it
        self.tables = []
        self.first = {}  # where generators begin, by their code's number

    def hook(self):
        """Return the hook of one thread, with a table of its own."""
        calls, inner, resumed, active = {}, {}, {}, {}
        self.tables.append((calls, inner, resumed))
        codes, first, number = self.codes, self.first, id

        def count(frame, event, arg):
            if event == "call":
                code = frame.f_code
                callee = number(code)
                if callee not in codes:
                    codes[callee] = code
                back = frame.f_back
                if back is None:
                    key = 0, 0, callee
                else:
                    caller = back.f_code
                    if number(caller) not in codes:
                        codes[number(caller)] = caller
                    key = number(caller), back.f_lasti, callee
                if code.co_flags & GENERATORS:
                    begins = first.setdefault(callee, frame.f_lasti)
                    if frame.f_lasti > begins:
                        resumed[key] = resumed.get(key, 0) + 1
                        active[callee] = active.get(callee, 0) + 1
                        return
                calls[key] = calls.get(key, 0) + 1
                depth = active.get(callee, 0)
                if depth:
                    inner[key] = inner.get(key, 0) + 1
                active[callee] = depth + 1
            elif event == "return":
                callee = number(frame.f_code)
                depth = active.get(callee, 0)
                if depth:
                    active[callee] = depth - 1
            elif event == "c_call":
                code = frame.f_code
                caller = number(code)
                if caller not in codes:
                    codes[caller] = code
                try:
                    name = arg.__qualname__
                    module = arg.__module__
                except AttributeError:
                    name, module = type(arg).__name__, None
                if module is not None and module != "builtins":
                    name = module + "." + name
                key = caller, frame.f_lasti, name
                calls[key] = calls.get(key, 0) + 1

        return count

    def forget(self):
        """Empty all tables."""
        for table in self.tables:
            for one in table:
                one.clear()

    def told(self):
        """Return places and edges."""
        places, edges = [], {}
        numbers = {}

        def place_of(what):
            if what == 0:
                return -1
            key = what if isinstance(what, str) else self.described(what)
            if key not in numbers:
                numbers[key] = len(places)
                places.append(["built-in", key, "", 0] if isinstance(what, str) else list(key))
            return numbers[key]

        for table in list(self.tables):
            for at, counts in enumerate(table):
                for (caller, offset, callee), count in list(counts.items()):
                    if OURS & {self.file(caller), self.file(callee)}:
                        continue
                    key = place_of(caller), self.line(caller, offset), place_of(callee)
                    edges.setdefault(key, [0, 0, 0])[at] += count
        return {
            "version": VERSION,
            "places": places,
            "edges": [list(key) + counts for key, counts in edges.items()],
        }

    def described(self, code):
        """Return kind, name, file and line of a code object."""
        code = self.codes[code]
        return "python", getattr(code, "co_qualname", code.co_name), code.co_filename, code.co_firstlineno

    def file(self, code):
        """Return the file of a code object; "" for what has none."""
        return self.codes[code].co_filename if code in self.codes else ""

    def line(self, code, offset):
        """Return the line of an instruction."""
        if code not in self.codes:
            return 0
        code = self.codes[code]
        if not hasattr(code, "co_lines"):
            import dis

            found = code.co_firstlineno
            for begin, line in dis.findlinestarts(code):
                if begin > offset:
                    break
                found = line
            return found
        for begin, end, line in code.co_lines():
            if begin <= offset < end and line is not None:
                return line
        return code.co_firstlineno


def begin(folder):
    """Count the calls of this process."""
    Counting(folder).begin()
