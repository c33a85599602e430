"""What became of a rig, save by save: an append-only file beside it, and the rig at any date."""
