"""What programs have on file: read safely, compared with the rig, quantity by quantity."""
