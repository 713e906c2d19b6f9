"""Reports as strings: text for a review comment, a page for a reviewer; and pictures as bytes."""

from bystander.report.inspected import InspectedView, inspected_page
from bystander.report.ladder import ladder_markdown, ladder_page
from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.report.picture import (
    PICTURE_SUFFIXES,
    PICTURES,
    PICTURES_INSIDE,
    accounts_picture,
    flow_picture,
    ladder_picture,
    mirror_picture,
    picture,
)
from bystander.report.pieces.lanes import Lanes, TrialSide, lanes
from bystander.report.trial import trial_page, trial_svg

__all__ = [
    "PICTURES",
    "PICTURES_INSIDE",
    "PICTURE_SUFFIXES",
    "InspectedView",
    "Lanes",
    "TrialSide",
    "accounts_picture",
    "flow_picture",
    "inspected_page",
    "ladder_markdown",
    "ladder_page",
    "ladder_picture",
    "lanes",
    "markdown",
    "mirror_picture",
    "page",
    "picture",
    "trial_page",
    "trial_svg",
]
