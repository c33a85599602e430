"""Programs' files: flattened safely, their values read, key maps kept."""
