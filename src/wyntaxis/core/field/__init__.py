"""Evidence about the field of view: image scale from solved frames and stars."""
