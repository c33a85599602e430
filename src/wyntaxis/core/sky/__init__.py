"""The sky above the rig: coordinates, projection, objects, the sensor's footprint, the horizon."""
