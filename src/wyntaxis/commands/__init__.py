"""The commands of the command line; each prints what the core finds."""
