"""The window: it shows what the core computes and sends edits to the document; it computes nothing itself."""
