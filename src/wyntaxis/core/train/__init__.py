"""The geometry of the train and the guide branch: joints, light path, illumination, spacers."""
