"""Stars measured on frames: background, detection, and the shape of each star."""
