"""Writes docs/schemas: the messages between a driver's machine and a robot, as JSON Schema."""

from __future__ import annotations

import json
from pathlib import Path

from tenuto.protocols.remote import MESSAGES

FOLDER = Path(__file__).parents[1] / "docs/schemas"

for name, kind in MESSAGES.items():
    (FOLDER / f"{name}.json").write_text(json.dumps(kind.model_json_schema(), indent=2) + "\n", encoding="utf-8")
    print(f"docs/schemas/{name}.json")
