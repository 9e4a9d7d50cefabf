"""Which bus an interface is on: its name, its channel, and whether it takes long frames; with the caution."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.fields import Switch, show_switch
from yarvic.desk.widgets.words import chooser, label, row, show_choice
from yarvic.state.session import Session


class BusRow(QWidget):
    """Kept in the settings; the unit is looked for on what was chosen."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.interface = chooser("Interface", self._interfaces)
        self.other = Line("Name of another interface", self._enter_interface, 110, "another name")
        self.channel = Line("Channel of the interface", self._enter_channel, 150, "channel, such as can0")
        self.long = Switch("Frames of up to 64 bytes", self._set_long)
        self.caution = label("", "caption", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        names = label("Interface", "quiet"), label("channel", "quiet")
        column.addLayout(row(names[0], self.interface, self.other, names[1], self.channel, None, spacing=8))
        column.addLayout(row(self.long, None))
        column.addWidget(self.other.fault)
        column.addWidget(self.channel.fault)
        column.addWidget(self.caution)

    def _interfaces(self) -> list:
        from yarvic.core.link.buses import interfaces, missing

        lacks = {name: missing(name) for name in interfaces()}
        return [
            (f"{name} (package {lack} is not installed)" if lack else name, partial(self._enter_interface, name))
            for name, lack in lacks.items()
        ]

    def _enter_interface(self, name: str) -> None:
        if name.strip():
            kept = self.session.settings
            self.session.link.choose_bus(name, kept.channel, long_frames=kept.long_frames)

    def _enter_channel(self, channel: str) -> None:
        kept = self.session.settings
        self.session.link.choose_bus(kept.interface, channel, long_frames=kept.long_frames)

    def _set_long(self, on: bool) -> None:
        kept = self.session.settings
        self.session.link.choose_bus(kept.interface, kept.channel, long_frames=on)

    def refresh(self) -> None:
        """Show what is kept."""
        kept, way = self.session.settings, self.session.link.way
        show_choice(self.interface, kept.interface)
        self.other.show_text("")
        self.channel.show_text(kept.channel)
        show_switch(self.long, kept.long_frames)
        self.caution.setText(way.caution)
        for widget in (self.interface, self.other, self.channel, self.long):
            widget.setEnabled(self.session.busy is None)
