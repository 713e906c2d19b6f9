"""Reports as strings: text for a review comment, a page for a reviewer; and pictures as bytes."""

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.picture import PICTURE_SUFFIXES, PICTURES, accounts_picture, picture
from bystander.report.pieces.lanes import Lanes, TrialSide, lanes
from bystander.report.trial import trial_page, trial_svg

__all__ = [
    "PICTURES",
    "PICTURE_SUFFIXES",
    "Lanes",
    "TrialSide",
    "accounts_picture",
    "lanes",
    "markdown",
    "page",
    "picture",
    "trial_page",
    "trial_svg",
]
