"""What follows from a rig's devices: their presence, their power, what they must store."""
