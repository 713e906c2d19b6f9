"""The environment of trials: a stated list, so that a record can say what it was, without values that are secrets."""

from __future__ import annotations

import hashlib
import re
import secrets
from collections.abc import Iterable, Mapping

from bystander.errors import ArmError

__all__ = ["STANDARD_VARIABLES", "new_salt", "sealed", "trial_environment", "unsealed"]

STANDARD_VARIABLES = (
    "PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "TMPDIR",
)  # fmt: skip
_ROUNDS = 100_000  # of the derivation, so that short values cannot be guessed one after another
_DIGITS = 32
_SEALED = re.compile(r"sealed:([0-9a-f]{16}):([0-9a-f]{32})")
_SECRET = "secret"


def trial_environment(
    caller: Mapping[str, str], keep: Iterable[str] = (), extra: Mapping[str, str] | None = None
) -> dict[str, str]:
    """Return the variables of a trial: the standard list and `keep` from the caller, then `extra`.

    Hash seeds move a dictionary-heavy Python program by about one percent, so the seed is fixed alike
    in all arms unless the study sets it.
    """
    names = [*STANDARD_VARIABLES, *keep]
    taken = {name: caller[name] for name in names if name in caller}
    return {"PATH": "/usr/local/bin:/usr/bin:/bin", "PYTHONHASHSEED": "0", **taken, **(extra or {})}


def new_salt() -> str:
    """Return a salt for one record."""
    return secrets.token_hex(8)


def _seal(value: str, salt: str) -> str:
    digest = hashlib.pbkdf2_hmac("sha256", value.encode(errors="surrogateescape"), bytes.fromhex(salt), _ROUNDS)
    return f"sealed:{salt}:{digest.hex()[:_DIGITS]}"


def sealed(environment: Mapping[str, str], kept: Iterable[str], secret: Iterable[str], salt: str) -> dict[str, str]:
    """Return the variables as a record keeps them: those in `kept` as digests, those in `secret` by name only.

    Notes
    -----
    Digests are PBKDF2 (RFC 8018) over HMAC-SHA-256 with a salt of the record's own: equal values of one record are
    equal digests, and those of two records cannot be told to be equal.
    """
    hidden = {**dict.fromkeys(kept, False), **dict.fromkeys(secret, True)}
    return {
        name: value if name not in hidden else _SECRET if hidden[name] else _seal(value, salt)
        for name, value in environment.items()
    }


def unsealed(
    environment: Mapping[str, str], kept: Iterable[str], secret: Iterable[str], caller: Mapping[str, str]
) -> dict[str, str]:
    """Return the variables of a record's trials, with values of the caller's that are what they were.

    Raises
    ------
    ArmError
        When a variable whose digest was kept has another value now, or one is missing.
    """
    found, names, without = dict(environment), set(kept), set(secret)
    for name, value in environment.items():
        match = _SEALED.fullmatch(value) if name in names else None
        if not match and name not in without:
            continue
        if name not in caller:
            raise ArmError(f"the variable {name}, which the trials took over from the caller, is not set now")
        if match and _seal(caller[name], match[1]) != value:
            raise ArmError(f"the variable {name} has another value than when the record was begun")
        found[name] = caller[name]
    return found
