"""What the user chooses among when tables come in; light, so that the command line can list it."""

from __future__ import annotations

from typing import Literal

DetectionRule = Literal["half of limit", "limit", "zero", "missing"]
AboveRule = Literal["another column or limit", "limit", "limit times factor", "missing"]
NegativeRule = Literal["auto", "below detection", "missing"]
Dips = Literal["auto", "negative down", "positive down", "from vertical"]
