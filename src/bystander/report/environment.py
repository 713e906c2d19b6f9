"""How templates become pages: everything is escaped, and a name that is not there is an error."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Sequence
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from bystander.report.theme import DARK, LIGHT, MARKS, PHASE_TINTS, TONES
from bystander.units import plain_text

__all__ = ["shell", "template_environment"]


def template_environment() -> Environment:
    """Return an environment for the templates of this room; what they show is text without control characters."""
    return Environment(
        loader=PackageLoader("bystander.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_shown,
    )


def _shown(value: object) -> object:
    """Return what an expression shows: any text but markup that a template of ours made passes here."""
    return plain_text(value) if type(value) is str else value


def shell(environment: Environment, pieces: Sequence[str], style: str = "") -> dict[str, Any]:
    """Return what every page has: its style and script, those of its pieces, and the policy that allows nothing else.

    The policy (CSP level 2) names style and script by their digests; images are in the page itself.

    Parameters
    ----------
    pieces : sequence of str
        Names of templates in `pieces`, each with a style and maybe a script.
    style : str
        The name of the page's own style.
    """
    known = set(environment.list_templates())
    styles = ["shell.css", *(f"pieces/{name}.css" for name in pieces), *([style] if style else [])]
    scripts = [f"pieces/{name}.js" for name in pieces if f"pieces/{name}.js" in known] + ["shell.js"]
    values = {"light": LIGHT, "dark": DARK, "tints": PHASE_TINTS}
    css = "\n".join(environment.get_template(name).render(**values) for name in styles)
    script = "\n".join(_raw(environment, name) for name in scripts)
    policy = (
        f"default-src 'none'; style-src {_digest(css)}; script-src {_digest(script)}; img-src data:; base-uri 'none'; "
        "form-action 'none'"
    )
    return {"style": Markup(css), "script": Markup(script), "policy": policy, "marks": MARKS, "tones": TONES}


def _raw(environment: Environment, name: str) -> str:
    """Return a script as it stands; nothing is put into it."""
    assert environment.loader is not None
    return environment.loader.get_source(environment, name)[0]


def _digest(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"
