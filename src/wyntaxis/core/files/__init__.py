"""How anything is opened and saved: bounded readers, atomic saving, errors of one line, places."""
