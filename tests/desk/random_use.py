"""Somebody who does anything: clicks, keys, texts, menus, dialogs, files of all kinds, in any order.

`python -m tests.desk.random_use EVENTS` does so on each demo job in both themes.
"""

import os
import random
import shutil
import sys
import tempfile
from pathlib import Path

from PyQt6.QtCore import QCoreApplication, QEvent, QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QDialog, QFileDialog, QLineEdit, QMenu, QWidget

from yarvic.core.errors import YarvicError
from yarvic.core.reading import DEFECTS
from yarvic.desk.app import make_window, unexpected
from yarvic.state.settings import Settings

TEXTS = (
    "5",
    "-3",
    "1e9",
    "",
    "abc",
    "0",
    "99999999",
    "12,5",
    "3.15 in",
    "-",
    "nan",
    "inf",
    "E85",
    "Rowan",
    "<b>x",
    "\u202e",
    "9" * 400,
)
KEYS = (
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_Delete,
    Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_B, Qt.Key.Key_F1, Qt.Key.Key_F6, Qt.Key.Key_Tab, Qt.Key.Key_S,
    Qt.Key.Key_I, Qt.Key.Key_0, Qt.Key.Key_K,
)  # fmt: skip
NONE, SHIFT, CONTROL = (
    Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier,
)  # fmt: skip


class RandomUser:
    """Acts on a window; each act is one event or a few that belong together."""

    def __init__(self, window, jobs, folder, seed):
        self.w, self.jobs, self.folder, self.r = window, jobs, folder, random.Random(seed)
        self.done = []
        self.reported = []
        window.session.failed.connect(self._hear)

    def _hear(self, error):
        if "Please report" in error.remedy:
            self.reported.append(f"{error} {error.details}")

    def dialogs_answer(self, monkeypatch):
        """File dialogs give a file of any kind, or none."""
        files = [str(p) for p in self.folder.iterdir()] + ["", "/etc/passwd", "/dev/zero", "/", "x" * 5000]
        monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (self.r.choice(files), ""))
        several = lambda *a, **k: (self.r.sample(files, self.r.randrange(3)), "")  # noqa: E731
        monkeypatch.setattr(QFileDialog, "getOpenFileNames", several)
        saves = [str(self.folder / "save.csv"), "", "/proc/none/a"]
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (self.r.choice(saves), ""))
        folders = [str(self.folder), "", "/proc"]
        monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: self.r.choice(folders))

    def top(self):
        """What takes events: an open dialog, else the window."""
        modal = QApplication.activeModalWidget()
        return modal if isinstance(modal, QDialog) else self.w

    def act(self):
        r, top = self.r, self.top()
        there = [x for x in top.findChildren(QWidget) if x.isVisible() and x.isEnabled()]
        kinds = (
            self.click,
            self.click,
            self.write,
            self.write,
            self.point,
            self.press,
            self.step,
            self.rung,
            self.other,
        )
        r.choice(kinds)(top, there)
        QApplication.processEvents()
        if r.random() < 0.08:
            QTest.qWait(r.choice((5, 30, 120)))

    def click(self, top, there):
        buttons = [x for x in there if isinstance(x, QAbstractButton)]
        if not buttons:
            return
        button = self.r.choice(buttons)
        self.done.append(f"click {button.text()[:40]!r}")
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        menu = QApplication.activePopupWidget()
        if isinstance(menu, QMenu):
            actions = [a for a in menu.actions() if a.isEnabled() and not a.isSeparator()]
            if actions and self.r.random() < 0.7:
                action = self.r.choice(actions)
                self.done.append(f"menu {action.text()[:40]!r}")
                action.trigger()
            menu.close()

    def write(self, top, there):
        lines = [x for x in there if isinstance(x, QLineEdit) and not x.isReadOnly()]
        if lines:
            line, text = self.r.choice(lines), self.r.choice(TEXTS)
            self.done.append(f"write {text[:20]!r} into {line.accessibleName()!r}")
            line.setFocus()
            line.selectAll()
            if text.isascii():
                QTest.keyClicks(line, text[:40])
            else:
                line.insert(text)  # no key of the keyboard types it
            QTest.keyClick(line, self.r.choice((Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape)))

    def point(self, top, there):
        if there:
            x = self.r.choice(there)
            at = QPoint(self.r.randrange(max(x.width(), 1)), self.r.randrange(max(x.height(), 1)))
            self.done.append(f"point at {type(x).__name__}")
            QTest.mouseClick(x, Qt.MouseButton.LeftButton, self.r.choice((NONE, SHIFT)), at)

    def press(self, top, there):
        key, modifier = self.r.choice(KEYS), self.r.choice((NONE, NONE, NONE, CONTROL, SHIFT))
        self.done.append(f"press {key.name}")
        QTest.keyClick(QApplication.focusWidget() or top, key, modifier)

    def step(self, top, there):
        number = self.r.randrange(1, 9)
        self.done.append(f"step {number}")
        QTest.keyClick(top, Qt.Key(Qt.Key.Key_0.value + number), Qt.KeyboardModifier.AltModifier)

    def rung(self, top, there):
        rungs = self.w.ladder.rungs()
        if rungs and top is self.w:
            rung = self.r.choice(rungs)
            self.done.append(f"rung {rung.name}")
            QTest.mouseClick(
                self.w.ladder, Qt.MouseButton.LeftButton, NONE, self.w.ladder.place(rung).center().toPoint()
            )

    def other(self, top, there):
        kind = self.r.choice(("theme", "undo", "open", "size", "command", "image"))
        self.done.append(kind)
        if kind == "theme":
            self.w.session.choose_theme(self.r.choice(("night", "paper")))
        elif kind == "undo":
            QTest.keyClick(self.w, self.r.choice((Qt.Key.Key_Z, Qt.Key.Key_Y)), CONTROL)
        elif kind == "open" and self.r.random() < 0.4:
            self.w.open_job(self.r.choice(self.jobs), read_only=self.r.random() < 0.3)
        elif kind == "size":
            self.w.resize(self.r.choice((1024, 1280, 1900)), self.r.choice((700, 800, 1100)))
        elif kind == "command":
            # Whatever is offered, but to quit.
            commands = [c for c in self.w._commands() if c.title != "Quit"]
            if commands:
                command = self.r.choice(commands)
                self.done.append(f"command {command.title[:40]!r}")
                command.action()
        elif kind == "image":
            self.w.import_image(self.r.choice(list(self.folder.iterdir())))


def use(job, folder, seed, events, theme, monkeypatch):
    """So many random acts on a job; gives the acts, and every error that nobody foresaw."""
    jobs = [job, Path(shutil.copy(job, folder / "other.yarvic"))]
    (folder / "log.csv").write_text(
        "Time;RPM;TPS;MAP\n" + "".join(f"{i / 10};{900 + 50 * i};100;{90 + i}\n" for i in range(90))
    )
    (folder / "hostile.csv").write_text('a,"b\n1,2,3\n' * 50)
    (folder / "hostile.toml").write_text("a = nan\n[[")
    (folder / "hostile.hex").write_text(":0102")
    window = make_window(Settings(author="Rowan Sedge", theme=theme))
    window.resize(1280, 800)
    window.show()
    user = RandomUser(window, jobs, folder, seed)
    user.dialogs_answer(monkeypatch)
    before = len(unexpected().errors)
    DEFECTS.clear()
    window.open_job(job)
    QTest.qWait(300)
    if window.session.bench is not None:
        window.session.bench.unit.seconds_per_block = 0.002
    wrong = []
    for _ in range(events):
        try:
            user.act()
        except YarvicError as error:
            assert error.remedy  # a refusal, which the window shows
        except Exception as error:  # noqa: BLE001 - a wrapped object that is gone, or a slip of ours: told apart below
            if "has been deleted" not in str(error):
                wrong.append(f"{type(error).__name__}: {error} after {user.done[-4:]}")
    while QApplication.activeModalWidget() is not None:
        QApplication.activeModalWidget().close()
        QTest.qWait(20)
    window.close()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    wrong += [f"{e.what}\n{e.details[-1500:]}" for e in unexpected().errors[before:]]
    wrong += user.reported + [f"{d.kind} while reading {d.source}\n{d.trace}" for d in DEFECTS]
    return user.done, wrong


def main():
    """Each demo job in both themes."""
    from pytest import MonkeyPatch

    from yarvic.demo.jobs import build_missing

    events = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    found = 0
    with tempfile.TemporaryDirectory() as name:
        os.environ["YARVIC_HOME"] = str(Path(name) / "home")
        for path in build_missing(Path(name) / "jobs"):
            for theme in ("paper", "night"):
                folder = Path(name) / f"{path.stem}-{theme}"
                folder.mkdir()
                with MonkeyPatch.context() as m:
                    done, wrong = use(
                        Path(shutil.copy(path, folder)), folder, f"{path.stem} {theme} {seed}", events, theme, m
                    )
                found += len(wrong)
                print(f"{path.stem}, {theme}: {len(done):,} acts, {len(wrong)} unforeseen", flush=True)
                for each in wrong:
                    print(each, flush=True)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
