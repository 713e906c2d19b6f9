"""Counts, of the functions that a word means, how often each line runs, and calls by what they were given.

Standard library only, Python 3.8 and later.  BYSTANDER_HOOKS_PLACE is the word, BYSTANDER_HOOKS_ROOT the folder from
which files are named.  Of arguments only digests leave the program, so that none of its values does.
"""

import fnmatch
import hashlib
import os
import re
import sys
import threading

telling = load("telling")  # noqa: F821 - whoever loads a hook gives it this
VERSION = 1
GENERATORS = 0x20 | 0x80 | 0x200  # flags of generators, coroutines and generators of both kinds
MAKING = re.compile(r"(?:\.<locals>)?\.<(?:list|set|dict)comp>$|(?:\.<locals>)?\.<genexpr>$")
MOST_DISTINCT = 100000  # of one function and process
MOST_PARTS = 20000  # of the arguments of one call that are looked at
DEEPEST = 30
MOST_NAMED = 5  # types of objects
SCALARS = (bool, float, complex, type(None), type(Ellipsis))


class LongError(Exception):
    """There is more in it than is looked at."""


class Written:
    """The digest of a value, by its type and what it holds; an object of another type by which object it is."""

    def __init__(self):
        self.left = MOST_PARTS
        self.objects = set()

    def digest(self, value, depth=0):
        """Return 16 bytes; equal for values of the same types that hold the same."""
        made = hashlib.blake2b(digest_size=16)
        self.add(made.update, value, depth)
        return made.digest()

    def add(self, add, value, depth):
        """Add what a value holds."""
        kind = type(value)
        self.left -= 1
        if self.left < 0 or depth > DEEPEST:
            raise LongError
        if kind is int:
            add(b"i" + hex(value).encode())
        elif kind in SCALARS:
            add(("c" + repr(value)).encode())
        elif kind is str:
            add(b"s%d:" % len(value) + value.encode("utf-8", "surrogatepass"))
        elif kind is bytes or kind is bytearray:
            add(b"%s%d:" % (kind.__name__.encode(), len(value)) + bytes(value))
        elif kind is tuple or kind is list:
            add(b"%s%d:" % (kind.__name__.encode(), len(value)))
            for one in tuple(value):
                self.add(add, one, depth + 1)
        elif kind is set or kind is frozenset:
            add(b"%s:" % kind.__name__.encode() + b"".join(sorted(self.digest(one, depth + 1) for one in tuple(value))))
        elif kind is dict:
            pairs = [self.digest(k, depth + 1) + self.digest(v, depth + 1) for k, v in tuple(value.items())]
            add(b"dict%d:" % len(pairs) + b"".join(sorted(pairs)))
        elif kind is range or kind is slice:
            add(repr(value).encode())
        else:
            self.objects.add(kind.__qualname__)
            add(b"o%d" % id(value))


class Place:
    """What is counted of one function in one thread."""

    def __init__(self):
        self.calls = self.resumed = 0
        self.lines = {}
        self.distinct = {}  # digests of all arguments, and how often
        self.more = False
        self.parameters = {}  # by name: digests, types of objects, whether one was too long


class Closely(telling.Telling):
    """The tables of one process."""

    set_hook, get_hook = staticmethod(sys.settrace), staticmethod(sys.gettrace)
    set_for_threads = staticmethod(threading.settrace)
    took = "the program took the hook that counts lines away"

    def __init__(self, folder):
        super().__init__(folder)
        self.word = os.environ.get("BYSTANDER_HOOKS_PLACE", "")
        self.root = os.environ.get("BYSTANDER_HOOKS_ROOT", "").rstrip("/")
        self.arguments = os.environ.get("BYSTANDER_HOOKS_ARGUMENTS") == "1"
        self.codes = {}  # by a code object's number: the object, so that no other gets it, and its function's key
        self.first = {}  # where generators begin, by their code's number
        self.tables = []

    def key(self, code):
        """Return name and file of the function that a code object belongs to, where the word means it; else None."""
        name, file = getattr(code, "co_qualname", code.co_name), code.co_filename
        while True:
            shorter = MAKING.sub("", name)
            if shorter == name:
                break
            name = shorter
        own = shorter == getattr(code, "co_qualname", code.co_name)
        line = code.co_firstlineno if own else 0
        if file in (__file__, telling.__file__) or not any(self.meant(name, file, line)):
            return None
        return name, file, line

    def meant(self, name, file, line):
        """Yield whether the word means one of a function's names."""
        short = self.short(file)
        stem = file.rpartition("/")[2]
        stem = stem[:-3] if stem.endswith(".py") else stem
        if stem in ("__init__", "__main__"):
            around = file.rpartition("/")[0].rpartition("/")[2]
            stem = around if stem == "__init__" else around + ".__main__"
        label = stem if name == "<module>" else stem + "." + name.replace(".<locals>.", ".")
        for one in (label, name, short, "%s:%d" % (short, line)):
            yield fnmatch.fnmatchcase(one, self.word)

    def short(self, file):
        """Return a file as it is named for people."""
        if self.root and file.startswith(self.root + "/"):
            return file[len(self.root) + 1 :]
        for mark in ("/site-packages/", "/dist-packages/"):
            if mark in file:
                return file.rpartition(mark)[2]
        library = re.search(r"/lib/(python\d\.\d+/.*)", file)
        return library.group(1) if library else file

    def hook(self):
        """Return the hook of one thread, with a table of its own."""
        table = {}
        self.tables.append(table)
        codes, first = self.codes, self.first

        def trace(frame, _event, _arg):
            code = frame.f_code
            number = id(code)
            known = codes.get(number)
            if known is None:
                known = codes[number] = code, self.key(code)
            key = known[1]
            if key is None:
                return None
            place = table.get(key[:2])
            if place is None:
                place = table[key[:2]] = Place()
            if key[2]:
                begins = first.setdefault(number, frame.f_lasti) if code.co_flags & GENERATORS else frame.f_lasti
                if frame.f_lasti > begins:
                    place.resumed += 1
                else:
                    place.calls += 1
                    if self.arguments:
                        self.given(place, frame, code)
            lines = place.lines

            def step(frame, event, _arg):
                if event == "line":
                    line = frame.f_lineno
                    lines[line] = lines.get(line, 0) + 1
                return step

            return step

        return trace

    def given(self, place, frame, code):
        """Note what a call was given."""
        count = code.co_argcount + code.co_kwonlyargcount
        count += bool(code.co_flags & 4) + bool(code.co_flags & 8)
        values = frame.f_locals
        every = hashlib.blake2b(digest_size=16)
        for name in code.co_varnames[:count]:
            digests, objects, long = place.parameters.setdefault(name, (set(), set(), []))
            written = Written()
            try:
                one = written.digest(values[name])
            except Exception:  # too much to look at, or changed by another thread meanwhile
                one = b"long"
                if not long:
                    long.append(True)
            if written.objects and len(objects) < MOST_NAMED:
                objects.update(sorted(written.objects)[:MOST_NAMED])
            if len(digests) < MOST_DISTINCT:
                digests.add(one)
            every.update(one)
        key = every.digest()
        if key in place.distinct or len(place.distinct) < MOST_DISTINCT:
            place.distinct[key] = place.distinct.get(key, 0) + 1
        else:
            place.more = True

    def forget(self):
        """Empty all tables."""
        for table in self.tables:
            table.clear()

    def told(self):
        """Return what was counted, by function."""
        lines = {key[:2]: key[2] for _, key in list(self.codes.values()) if key and key[2]}
        places = []
        for table in list(self.tables):
            for (name, file), one in list(table.items()):
                parameters = [
                    [parameter, sorted(digest.hex() for digest in digests), sorted(objects), bool(long)]
                    for parameter, (digests, objects, long) in one.parameters.items()
                ]
                places.append(
                    {
                        "name": name,
                        "file": file,
                        "line": lines.get((name, file), 0),
                        "calls": one.calls,
                        "resumed": one.resumed,
                        "lines": sorted(one.lines.items()),
                        "distinct": {key.hex(): count for key, count in one.distinct.items()},
                        "more": one.more,
                        "parameters": parameters,
                    }
                )
        return {"version": VERSION, "places": places}


def begin(folder):
    """Count from now on in this process."""
    Closely(folder).begin()
