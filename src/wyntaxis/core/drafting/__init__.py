"""A rig drafted from evidence: every value with its origin, what nobody told assumed, what disagrees told."""
