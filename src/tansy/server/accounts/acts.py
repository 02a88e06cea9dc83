"""Who may do what: roles of people in a portfolio, and what each view says of the acts that come to it."""

from __future__ import annotations

from dataclasses import dataclass

from django.db import models


class Role(models.TextChoices):
    """From the one who may do least; each may do what those before may."""

    READER = "reader", "reader"
    PLANNER = "planner", "planner"
    SIGNER = "signer", "signer"
    KEEPER = "keeper", "keeper"

    def covers(self, needed: Role) -> bool:
        """Whether this role may do what another one may."""
        ranked = list(Role)
        return ranked.index(self) >= ranked.index(needed)


@dataclass(frozen=True)
class Act:
    """What a call that is no GET does. words: for the trail, with {id} for the number in the address, and {made},
    {name} and {role} as the answer has them; empty where nothing is changed. role: of the portfolio that it is done
    in, not asked for where it is in none."""

    words: str
    role: Role = Role.PLANNER


LOOK = Act("", Role.READER)
"""A question that is too long for an address."""
