"""How templates become pages: everything is escaped, and a name that is not there is an error."""

from __future__ import annotations

from jinja2 import Environment, PackageLoader, StrictUndefined

from bystander.units import plain_text

__all__ = ["template_environment"]


def template_environment() -> Environment:
    """Return an environment for the templates of this room, with the filter `plain` for what others wrote."""
    environment = Environment(
        loader=PackageLoader("bystander.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters["plain"] = plain_text
    return environment
