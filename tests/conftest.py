"""Small subjects and models that the tests share, all of the demo world."""

from __future__ import annotations

import signal
from pathlib import Path

import pytest
from hypothesis import settings

import larktally as lt
from larktally.demo import quay

# No test hangs on how fast a machine is, or on what else it has to do.
settings.register_profile("no deadline", deadline=None)
settings.load_profile("no deadline")
# A shell that starts something in the background has it ignore Ctrl-C, and all that it starts.
signal.signal(signal.SIGINT, signal.default_int_handler)


class Lamp:
    """A user's own subject with a channel of each kind."""

    actions = ("hop",)
    events = ("lit",)

    def reset(self, setup: lt.Setup) -> None:
        self.y, self.count, self.lit = 0.0, 0, False

    def step(self, now: lt.FrameInput) -> list[lt.Event]:
        self.y += 0.5 if now.held("hop") else 0.0
        self.count += now.pressed("hop")
        was, self.lit = self.lit, self.count >= 2
        return [lt.Event("lit", "lamp", count=self.count)] if self.lit and not was else []

    def observe(self) -> dict[str, object]:
        return {"y": self.y, "count": self.count, "lit": self.lit, "mood": "bright" if self.lit else "dark"}


@pytest.fixture
def lamp_trace() -> lt.Trace:
    script = lt.InputScript().hold("hop", start=3, frames=4).press("hop", start=10)
    return lt.record(Lamp, script, frames=20)


@pytest.fixture(scope="session")
def dusk_trace() -> lt.Trace:
    return lt.record(quay.dusk_run.named("dusk_run"))


@pytest.fixture
def model_file(tmp_path: Path) -> Path:
    path = tmp_path / "quay.py"
    path.write_text(Path(quay.__file__).read_text(encoding="utf-8"), encoding="utf-8")
    return path


@pytest.fixture(autouse=True)
def piped(monkeypatch: pytest.MonkeyPatch) -> None:
    """No width of a terminal: whatever runs the tests may have set one."""
    monkeypatch.delenv("COLUMNS", raising=False)
