"""First painted window against a bare one, and how long the event loop stalls while a job runs."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from benches.figure import Figure

BARE = """
import sys
from PyQt6.QtWidgets import QApplication, QMainWindow
from PyQt6.QtCore import QTimer
app = QApplication(sys.argv)
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event)
        QTimer.singleShot(0, app.quit)
w = Window(); w.resize(1280, 800); w.show(); app.exec()
"""
OURS = """
import sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from mosscrate.desk.app import make_application
from mosscrate.desk.window import MainWindow
app = make_application(sys.argv, "dark")
def bench():
    from mosscrate.core.sheet.bench import standard_bench
    folder = Path(sys.argv[1])
    return standard_bench(crate=folder / "crate", state=folder / "state")
class Window(MainWindow):
    def paintEvent(self, event):
        if UNTIL == "painted":
            QTimer.singleShot(0, app.quit)
            return
        super().paintEvent(event)
w = Window(bench)
w.furnished.connect(lambda: QTimer.singleShot(0, app.quit))
w.show(); app.exec()
"""
WATCHED = """
import sys, time
from pathlib import Path
from PyQt6.QtCore import QTimer
from mosscrate.demo.cards import bench_at
from mosscrate.desk.app import make_application
app = make_application(sys.argv, "dark")
gaps, last = [], time.perf_counter()
def beat():
    global last
    now = time.perf_counter(); gaps.append((now - last) * 1000); last = now
def until(ready):
    end = time.monotonic() + 120
    while not ready() and time.monotonic() < end:
        app.processEvents(); time.sleep(0.001)
    assert ready()
"""
STALL = WATCHED + """
from mosscrate.desk.window import MOVE, MainWindow
w = MainWindow(lambda: bench_at(Path(sys.argv[1]) / "heron")); w.furnish(); w.show()
find = lambda name: next(m for m in w.model.media if m.name == name)
until(lambda: len(w.model.media) and w.model.asker.is_idle)
w.go_to(MOVE)
w.move_.choose_source(find("Pipkin bench card")); w.move_.choose_target(find("New 8 GB card"))
until(lambda: w.move_.plan is not None and w.model.asker.is_idle)
timer = QTimer(); timer.timeout.connect(beat); timer.start(5)
w.move_.guard_panel.entry.field.setText(w.move_.plan.target.tag)
w.move_.guard_panel.entry.buttons[0].click()
last = time.perf_counter(); gaps.clear()
def ended():
    return w.move_.job is None
w.model.jobs[0].ended.connect(app.quit)
app.exec()
gaps.sort()
assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
print(gaps[int(len(gaps) * 0.99)], gaps[-1], len(gaps))
w.model.close()
"""
READ = WATCHED + """
from mosscrate.desk.window import PROOF, MainWindow
w = MainWindow(lambda: bench_at(Path(sys.argv[1]) / "heron")); w.furnish(); w.resize(1280, 800); w.show()
until(lambda: len(w.model.media) and w.model.asker.is_idle)
w.model.select(next(m for m in w.model.media if m.name == "Bargain 8 GB card"))
w.go_to(PROOF); until(lambda: w.model.asker.is_idle)
timer = QTimer(); timer.timeout.connect(beat); timer.start(5)
w.proof.read()
last = time.perf_counter(); gaps.clear()
w.model.jobs[0].ended.connect(app.quit)
app.exec()
gaps.sort()
assert w.proof.bore.log.rate > 0
print(gaps[int(len(gaps) * 0.99)], gaps[-1], len(gaps))
w.model.close()
"""

SORT = WATCHED + """
from mosscrate.desk.window import FILL, MainWindow
top = Path(sys.argv[1]) / "many"
for number in range(50_000):
    folder = top / f"folder {number // 1250}"
    if number % 1250 == 0:
        folder.mkdir(parents=True)
    (folder / f"Hill Run {number}.{('gb', 'nes', 'gba', 'sms')[number // 1250 % 4]}").write_bytes(b"x" * (number % 300))
w = MainWindow(lambda: bench_at(Path(sys.argv[1]) / "heron")); w.furnish(); w.show()
until(lambda: len(w.model.media) and w.model.asker.is_idle)
w.go_to(FILL)
timer = QTimer(); timer.timeout.connect(beat); timer.start(5)
last = time.perf_counter(); gaps.clear()
begun = time.monotonic()
w.fill.bring([top])
until(lambda: w.fill.filling is not None)
took = time.monotonic() - begun
for box in w.fill.flow.streams().groups[:20]:
    w.fill.flow.chosen.emit(box.name); app.processEvents()
gaps.sort()
assert len(w.fill.filling.sorted.placed) == 50_000
print(gaps[int(len(gaps) * 0.99)], gaps[-1], took)
"""


def figures(folder: Path) -> Iterator[Figure]:
    painted = f"UNTIL = 'painted'\n{OURS}"
    pairs = [(_run(BARE, folder), _run(painted, folder)) for _ in range(6)][1:]
    filled = statistics.median(_run(f"UNTIL = 'furnished'\n{OURS}", folder) for _ in range(3))
    ratio = statistics.median(b / a for a, b in pairs)
    bare, ours = (statistics.median(p[k] for p in pairs) for k in (0, 1))
    yield Figure("first painted window / bare PyQt6 window", ratio, 1.5, "×",
                 f"bare {bare:.2f} s, ours {ours:.2f} s")
    yield Figure("stations with contents, after the window", filled - ours, 1, "s", f"{filled:.2f} s in all")
    done = _start(STALL, folder)
    p99, worst, beats = done.stdout.split()
    yield Figure("event loop during a running job: p99 of the gaps", float(p99), 25, "ms",
                 f"longest {float(worst):.0f} ms of {beats} beats")
    p99, worst, beats = _start(READ, folder).stdout.split()
    yield Figure("event loop while the log of a card grows: p99 of the gaps", float(p99), 50, "ms",
                 f"longest {float(worst):.0f} ms of {beats} beats")
    p99, worst, took = _start(SORT, folder).stdout.split()
    yield Figure("event loop while 50,000 files are brought in: p99", float(p99), 50, "ms",
                 f"longest {float(worst):.0f} ms, {float(took):.1f} s until they are shown")


def _run(code: str, folder: Path) -> float:
    begun = time.perf_counter()
    _start(code, folder)
    return time.perf_counter() - begun


def _start(code: str, folder: Path) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)             # an installed program is compiled once
    return subprocess.run([sys.executable, "-c", code, str(folder)], check=True, capture_output=True, text=True,
                          env=environment)
