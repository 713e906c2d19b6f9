"""What looks like a secret is masked in what a trial printed, before anything of it is kept or shown."""

from __future__ import annotations

import re
from collections.abc import Iterable

__all__ = ["masked"]

_MASK = "(masked)"
_LEAST_VALUE = 4  # letters of a value that is masked wherever it stands: shorter ones are words
_KEYS = re.compile(r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----.*?(?:-----END [A-Z0-9 ]*PRIVATE KEY-----|\Z)", re.DOTALL)
_NAMED = re.compile(
    r"(?i)(\b[\w-]*(?:password|passwd|secret|token|api[_-]?key|authorization)[\w-]*[\"']?\s*[:=]\s*)"
    r"((?:bearer|basic)\s+\S+|[\"'][^\"'\n]+[\"']|\S{6,})"
)
_BEARER = re.compile(r"(?i)\b(bearer\s+)[\w.~+/=-]{16,}")
_IN_ADDRESS = re.compile(r"(?<=://)[^\s/@:]+:[^\s/@]+(?=@)")
_PREFIXED = re.compile(r"\b(?:gh[opsu]_|github_pat_|glpat-|xox[abps]-|sk-|AKIA|ASIA)[\w-]{12,}")
_SIGNED = re.compile(r"\beyJ[\w-]{8,}\.[\w-]+\.[\w-]*")  # JSON Web Tokens (RFC 7519)
_LONG = re.compile(r"(?<![\w/.])[A-Za-z0-9+=]{24,}(?![\w/.])")
_HEX = re.compile(r"(?i)[0-9a-f]{32,}")


def masked(text: str, values: Iterable[str] = ()) -> str:
    """Return a text without values that are secret, and without what looks like one.

    Parameters
    ----------
    values : iterable of str
        Of variables that trials took over from the caller.

    Notes
    -----
    Taken for secrets are private keys (RFC 7468), what stands after names like password and token, names and passwords
    in addresses (RFC 3986), tokens by their beginnings, and long words in which capital letters, small ones and digits
    mix, or of 32 hexadecimal digits and more. A digest is masked too: nobody can tell it from a key.
    """
    for value in sorted({value for value in values if len(value) >= _LEAST_VALUE}, key=len, reverse=True):
        text = text.replace(value, _MASK)
    text = _KEYS.sub(_MASK, text)
    text = _NAMED.sub(rf"\1{_MASK}", text)
    text = _BEARER.sub(rf"\1{_MASK}", text)
    text = _IN_ADDRESS.sub(_MASK, text)
    for pattern in (_PREFIXED, _SIGNED):
        text = pattern.sub(_MASK, text)
    return _LONG.sub(lambda found: _MASK if _looks_random(found[0]) else found[0], text)


def _looks_random(word: str) -> bool:
    mixed = all(any(test(c) for c in word) for test in (str.isupper, str.islower, str.isdigit))
    return mixed or bool(_HEX.fullmatch(word))
