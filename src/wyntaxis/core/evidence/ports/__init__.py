"""The kernel's tree of ports."""
