"""What a test can see of a picture: its size, and that it shows something on its background."""

from pathlib import Path

import matplotlib.image
import numpy as np


def seen(path: str | Path) -> tuple[int, int, float, int]:
    """(width, height, share of the pixels that are not background, number of colours) of a PNG file."""
    pixels = np.round(matplotlib.image.imread(path)[:, :, :3] * 31.0).astype(np.int64)
    codes = pixels @ np.array([1, 32, 1024])
    values, counts = np.unique(codes, return_counts=True)
    return pixels.shape[1], pixels.shape[0], 1.0 - counts.max() / codes.size, len(values)


def assert_picture(test, path: str | Path, colours: int = 40) -> None:
    """Fail unless the file is a picture of at least 900 x 500 pixels that shows something in so many colours."""
    width, height, fraction, many = seen(path)
    test.assertGreaterEqual(width, 900, path)
    test.assertGreaterEqual(height, 500, path)
    test.assertGreater(fraction, 0.01, f"{path} is empty")
    test.assertGreaterEqual(many, colours, f"{path} shows nothing")
