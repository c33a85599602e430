"""What was looked at and measured: a folder a kind."""
