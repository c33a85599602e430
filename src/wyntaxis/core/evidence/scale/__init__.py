"""The measured image scale."""
