"""Long trials with random input: readers, kills in mid-save, and a monkey at the window. ``make soak TIME=1200``."""
