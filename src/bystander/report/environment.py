"""How templates become pages: everything is escaped, and a name that is not there is an error."""

from __future__ import annotations

import base64
import hashlib
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from bystander.units import plain_text

__all__ = ["page_parts", "template_environment"]


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


def page_parts(environment: Environment, style: str, **values: Any) -> dict[str, Any]:
    """Return a page's own style and its content policy (CSP level 2), by which nothing else is loaded or run.

    Parameters
    ----------
    style : str
        The name of the style's template.
    """
    text = environment.get_template(style).render(**values)
    digest = base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()
    policy = f"default-src 'none'; style-src 'sha256-{digest}'; img-src data:; base-uri 'none'; form-action 'none'"
    return {"style": Markup(text), "policy": policy}
