"""Stars far out of focus: discs with and without a hole, how far the focus is, and how the hole lies in the disc."""
