"""Reports as strings: text for a review comment, a page for a reviewer."""

from bystander.report.formats import FORMATS, register_format
from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.trial import TrialSide, trial_page, trial_svg

__all__ = ["FORMATS", "TrialSide", "markdown", "page", "register_format", "trial_page", "trial_svg"]
