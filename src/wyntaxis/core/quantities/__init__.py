"""From rig and evidence to the numbers of the ledger."""
