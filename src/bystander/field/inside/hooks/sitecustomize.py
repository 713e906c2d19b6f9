"""The one way into a Python program, whatever starts it: the interpreter imports this module before the program.

Its folder stands first in PYTHONPATH, so it is found by scripts, by modules run with -m, by installed commands and by
child interpreters; not by one that ignores its environment (-I, -E) or site (-S).  It takes its folder out of the
search path again, loads the hooks that BYSTANDER_HOOKS names, and lets the program's own module of this name do its
work.  Syntax of any Python, since any may be a child.
"""

import os
import sys


class _Loaded:
    """One file of this folder, loaded by its path, without a trace in the module search; it may load others so."""

    def __init__(self, folder, name):
        path = os.path.join(folder, name + ".py")
        with open(path) as file:
            code = compile(file.read(), path, "exec")
        space = self.__dict__
        space.update(__name__="bystander_" + name, __file__=path, load=lambda other: _Loaded(folder, other))
        exec(code, space)


def _enter():
    """Do what is asked for, and let the program see what it would see without us."""
    folder = os.path.dirname(os.path.abspath(__file__))
    sys.path[:] = [path for path in sys.path if not path or os.path.abspath(path) != folder]
    ours = sys.modules.pop("sitecustomize", None)
    try:
        __import__("sitecustomize")
    except ImportError:
        if ours is not None:
            sys.modules["sitecustomize"] = ours
    if sys.version_info < (3, 8):
        return
    into = os.environ.get("BYSTANDER_HOOKS_TO", "")
    for name in os.environ.get("BYSTANDER_HOOKS", "").split():
        if name.isidentifier() and os.path.isdir(into):
            try:
                _Loaded(folder, name).begin(into)
            except Exception as error:  # the program must run as it would without us
                with open(os.path.join(into, "%d.failed" % os.getpid()), "w") as file:
                    file.write("%s: %s" % (type(error).__name__, error))


_enter()
