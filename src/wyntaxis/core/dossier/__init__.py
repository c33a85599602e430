"""The rig on paper: the dossier, the field card, what to type where, and everything in one file for a new computer."""
