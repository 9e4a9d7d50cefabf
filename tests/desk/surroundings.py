"""`python -m tests.desk.surroundings JOB LOG FOLDER`: go through the desk, and print what stands on its pages."""

import hashlib
import json
import sys
from pathlib import Path

from PyQt6.QtCore import Qt, qInstallMessageHandler
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QAbstractButton, QApplication, QLabel

from yarvic.core.formats.csv_log import write_csv_log
from yarvic.desk.app import application, make_window, unexpected
from yarvic.desk.driver import Driver
from yarvic.state.session import STEPS
from yarvic.state.settings import Settings


def words(window):
    """What stands in labels and on buttons that are shown, from the top left on."""
    shown = [w for w in window.findChildren((QLabel, QAbstractButton)) if w.isVisible() and w.text()]
    return [w.text() for w in shown]


def main() -> None:
    job, log, folder = (Path(a) for a in sys.argv[1:])
    heard = []
    qInstallMessageHandler(lambda kind, context, text: heard.append(text))
    application()
    window = make_window(Settings(author="Rowan Sedge"))
    window.resize(1280, 800)
    window.show()
    driver = Driver(window, folder, lambda text: None)
    driver.open(job)
    driver.rung("B1")
    driver.idle()
    pages, drawn, colours = {}, {}, set()
    for number, step in enumerate(STEPS, 1):
        driver.step(number)
        driver.idle()
        pages[step] = words(window)
        picture = window.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
        drawn[step] = hashlib.sha256(picture.constBits().asstring(picture.sizeInBytes())).hexdigest()
        colours |= {picture.pixel(x, y) for x in range(0, picture.width(), 7) for y in range(0, picture.height(), 7)}
    window.open_bench()
    driver.idle()
    field = window.view("bench").temperature
    driver.click(field)
    field.selectAll()
    driver.type("18,5")
    driver.key(Qt.Key.Key_Return)
    window.arrivals.open(log, opened=window.open_import, ended=lambda: None)
    driver.idle()
    pages["import"] = words(window)
    written = write_csv_log(window.session.job.log(window.session.job.evidence()[0].id), 0.1)
    print(json.dumps({
        "pages": pages, "typed": field.value(), "written": written, "drawn": drawn, "colours": len(colours),
        "ratio": window.devicePixelRatioF(), "heard": heard, "platform": QApplication.platformName(),
        "unexpected": [str(e) for e in unexpected().errors],
    }))  # fmt: skip
    window.close()


if __name__ == "__main__":
    main()
