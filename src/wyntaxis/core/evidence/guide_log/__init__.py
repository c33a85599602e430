"""Guide logs: read from text tables of any columns, measured run by run, and kept in the rig."""
