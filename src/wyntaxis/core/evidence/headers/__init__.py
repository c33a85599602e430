"""Frame headers: read in bulk, grouped, matched with their calibration."""
