"""From the text of a study file to a study, or to everything that is wrong with it."""
