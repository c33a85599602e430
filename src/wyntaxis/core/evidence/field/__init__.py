"""Field: tilt and curvature of best focus over the sensor, by sweeps of the focuser measured by zones."""
