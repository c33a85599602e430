"""The sheets in the middle of the window, one for each step of the worklist."""
