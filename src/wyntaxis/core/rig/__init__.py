"""The rig document: its model, its file, its edits."""
