"""Going into what is kept: a part of the paths, the neighbours of a place, the way down, seconds by line. Pure."""
