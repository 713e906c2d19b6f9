"""Reports as strings: text for a review comment, a page for a reviewer."""

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.pieces.lanes import Lanes, TrialSide, lanes
from bystander.report.trial import trial_page, trial_svg

__all__ = ["Lanes", "TrialSide", "lanes", "markdown", "page", "trial_page", "trial_svg"]
