"""Focus runs: curves of star size over the focuser's counter, and what they tell of focuser, tube and filters."""
