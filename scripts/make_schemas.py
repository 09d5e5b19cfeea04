"""Writes docs/schemas: the messages between a driver's machine and a robot, as JSON Schema."""

from __future__ import annotations

import json
from pathlib import Path

from tenuto.protocols.remote import RemoteCommand, RemoteState

FOLDER = Path(__file__).parents[1] / "docs/schemas"

for kind, file in ((RemoteCommand, "command.json"), (RemoteState, "state.json")):
    (FOLDER / file).write_text(json.dumps(kind.model_json_schema(), indent=2) + "\n", encoding="utf-8")
    print(f"docs/schemas/{file}")
