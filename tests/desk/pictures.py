"""What a picture of a widget shows, for tests that must not pass on a blank one."""

from collections import Counter

from PyQt6.QtGui import QColor

FEWEST_COLOURS = 6  # of a chart or a form: ground, sheet, ink, lines and the smoothed edges of text
MOST_GROUND = 0.995  # the share of one colour past which nothing is seen


def painted(widget):
    """The colours in a widget's picture. Fails where it shows next to nothing but its ground."""
    image = widget.grab().toImage()
    seen = Counter(image.pixel(x, y) for x in range(0, image.width(), 3) for y in range(0, image.height(), 3))
    share = max(seen.values()) / seen.total()
    assert len(seen) >= FEWEST_COLOURS and share < MOST_GROUND, f"{widget}: {len(seen)} colours, {share:.3f} is one"
    return {QColor(pixel).name() for pixel in seen}
