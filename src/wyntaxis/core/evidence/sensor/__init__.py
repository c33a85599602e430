"""The camera's bench: photon transfer, offset, dark current, flats, sky."""
