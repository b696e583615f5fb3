"""The OpenMetrics text format, version 1.0.0 (ABNF in the specification, "Text format")."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Literal

from dacha.core.named import NamedTuple

CONTENT_TYPE = "application/openmetrics-text; version=1.0.0; charset=utf-8"


class Family(NamedTuple):
    """A family of metrics: its name, which ends with its unit if it has one; its type, unit ("" for none) and
    description; and its samples, each with its labels. The samples of a counter get the suffix `_total`."""

    name: str
    type: Literal["counter", "gauge"]
    unit: str
    about: str
    samples: Sequence[tuple[Mapping[str, str], float]]


def text(families: Sequence[Family]) -> str:
    """The families as text; families without samples are left out."""
    lines = []
    for family in families:
        if not family.samples:
            continue
        lines.append(f"# TYPE {family.name} {family.type}")
        if family.unit:
            lines.append(f"# UNIT {family.name} {family.unit}")
        lines.append(f"# HELP {family.name} {_escaped(family.about)}")
        name = family.name + ("_total" if family.type == "counter" else "")
        for labels, value in family.samples:
            inside = ",".join(f'{key}="{_escaped(told)}"' for key, told in labels.items())
            lines.append(f"{name}{{{inside}}} {_number(value)}" if inside else f"{name} {_number(value)}")
    return "\n".join([*lines, "# EOF", ""])


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def _number(value: float) -> str:
    if math.isnan(value):
        return "NaN"
    return str(int(value)) if value == int(value) else repr(float(value))
