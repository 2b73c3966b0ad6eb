"""Where a device is, whether it is trusted, and what lets a person in; the password is forgotten with the line."""

from __future__ import annotations

import getpass

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from mosscrate.core.devices import Address, Device, KnownDevices, NeedsPassword, UnknownHost
from mosscrate.core.errors import MediumError
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.panel import button, label, row

TRUST = "It is the device’s key: trust it"


class DeviceLine(QWidget):
    """Tells with `connected` once the device answers."""

    connected = pyqtSignal(object)       # Device, which belongs to whoever hears it

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.known = KnownDevices.of(model.bench.state)
        self.field = QLineEdit()
        self.field.setPlaceholderText("user@host/folder")
        self.field.setAccessibleName("Where the device is")
        self.field.returnPressed.connect(self._connect)
        self.password = QLineEdit()
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        self.password.setPlaceholderText("password")
        self.password.setAccessibleName("Password of the device")
        self.password.returnPressed.connect(self._connect)
        self.act = button("Connect", self._connect, style="primary")
        self.trust = button(TRUST, self._trust)
        self.words = label(style="muted", scale=0.94, wraps=True)
        self._unknown: UnknownHost | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        line = row(self.field, self.password, self.act, self.trust)
        line.setStretch(0, 1)
        column.addLayout(line)
        column.addWidget(self.words)
        column.addStretch(1)

    def begin(self, address: str) -> None:
        """Connect to a device that is known, or ask where it is."""
        self.field.setText(address)
        self.password.clear()
        self._show("Any device that speaks SFTP: its address, and the folder that is meant.")
        if address:
            self._connect()
        else:
            self.field.setFocus()

    def _show(self, words: str, *, password: bool = False, trust: bool = False) -> None:
        self.words.setText(words)
        self.password.setVisible(password)
        self.trust.setVisible(trust)
        self.act.setVisible(not trust)
        self.act.setEnabled(True)

    def _connect(self) -> None:
        try:
            address = Address.parse(self.field.text(), user=getpass.getuser())
        except MediumError as error:
            self._show(str(error))
            return
        password, known = self.password.text(), self.known
        self.act.setEnabled(False)
        self.words.setText(f"Asking {address.host}…")

        def ask() -> Device:
            device = Device(address, known, password=password)
            try:
                device.connect()
                known.used(str(address))
            except BaseException:
                device.close()
                raise
            return device

        self.model.asker.ask(ask, self._take, self._fail)

    def _take(self, device: Device) -> None:
        self.password.clear()
        self._show("")
        self.connected.emit(device)

    def _fail(self, error: Exception) -> None:
        if isinstance(error, UnknownHost):
            self._unknown = error
            self._show(str(error), password=bool(self.password.text()), trust=True)
        elif isinstance(error, NeedsPassword):
            self._show(str(error), password=True)
            self.password.setFocus()
        else:
            self._show(str(error), password=bool(self.password.text()))

    def _trust(self) -> None:
        if self._unknown is None:
            return
        try:
            self.known.trust(Address.parse(self.field.text()).server, self._unknown.key)
        except MediumError as error:
            self._show(str(error))
            return
        self._unknown = None
        self._connect()
