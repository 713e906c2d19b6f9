"""Reports as strings: text for a review comment, a page for a reviewer."""

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.trial import TrialSide, trial_page, trial_svg

__all__ = ["TrialSide", "markdown", "page", "trial_page", "trial_svg"]
