"""Places environments live in that are reached over a network or through a driver, behind core's interface."""
