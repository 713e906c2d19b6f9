"""Reports as strings: text for a review comment, a page for a reviewer."""

from collections.abc import Callable

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.trial import TrialSide, trial_page, trial_svg
from bystander.verdicts import Decision

__all__ = ["FORMATS", "TrialSide", "markdown", "page", "trial_page", "trial_svg"]

# One line per format: the suffix of --to, and who writes it.
FORMATS: dict[str, Callable[[Decision], str]] = {".md": markdown, ".html": page}
