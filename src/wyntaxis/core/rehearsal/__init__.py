"""The night played by day: devices, plan and faults on a virtual clock, and what came of it."""
