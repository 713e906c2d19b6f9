"""Reports as strings: text for a review comment, a page for a reviewer."""

from collections.abc import Callable

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.verdicts import Decision

__all__ = ["FORMATS", "markdown", "page"]

# One line per format: the suffix of --to, and who writes it.
FORMATS: dict[str, Callable[[Decision], str]] = {".md": markdown, ".html": page}
