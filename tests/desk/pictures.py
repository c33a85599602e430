"""Looking at a step's pictures."""

from PyQt6.QtWidgets import QApplication


def looked_at(picture):
    """Show a picture of the step in sight, and return what it is drawn on."""
    picture.open()
    QApplication.processEvents()
    return picture.plot
