"""Which levels a structure has, as one line of text.

    department > group > product          nested: all, each department, each group in it, each product in it
    (department > group) * region         crossed: every level of the one with every level of the other
    region > store + format > store       side by side: the levels of both, not crossed

A name alone is two levels, all and each of its values. `>` binds closest, then `*`, then `+`. What the text denotes is
a set of levels, a level being the attributes by which its nodes are told apart; the series themselves are always the
last. Chains, what stands between crossings, are the axes along which nodes are placed.
"""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass

from tansy.engine.errors import StructureError

_PLAIN = r"[^\s>*+()\"]+(?:\s+[^\s>*+()\"]+)*"
_TOKEN = re.compile(rf"\s*(?:([>*+()])|\"([^\"]+)\"|({_PLAIN}))")

Chain = tuple[str, ...]
Term = tuple[Chain, ...]
"""Chains that cross each other."""

MOST_LEVELS = 1_024


@dataclass(frozen=True)
class Formula:
    """chains: names from coarse to fine, none the beginning of another. levels: how far down each chain a level goes,
    [chains] each, from the top down; the series themselves are not among them."""

    chains: tuple[Chain, ...]
    levels: tuple[tuple[int, ...], ...]


def named(chain: Chain) -> str:
    """A chain as a formula has it. Raises StructureError where a name cannot be written in one."""
    for name in chain:
        if '"' in name:
            raise StructureError(f"{name!r} has a quote in it and cannot stand in a formula; rename it.")
    return " > ".join(name if re.fullmatch(_PLAIN, name) else f'"{name}"' for name in chain)


def parse(text: str) -> Formula:
    """Raises StructureError, with the place, where the text is not a formula or has very many levels."""
    terms = _Reader(text).read()
    chain_of_any = list(dict.fromkeys(itertools.chain(*terms)))
    chains = [
        chain
        for chain in chain_of_any
        if not any(other != chain and other[: len(chain)] == chain for other in chain_of_any)
    ]
    axis = {
        chain: next(i for i, other in enumerate(chains) if other[: len(chain)] == chain)
        for term in terms
        for chain in term
    }
    levels: set[tuple[int, ...]] = set()
    for term in terms:
        on = [axis[chain] for chain in term]
        if len(set(on)) < len(on):
            raise StructureError(f"The structure {text!r} crosses {chains[max(on, key=on.count)][0]!r} with itself.")
        count = 1
        for chain in term:
            count *= len(chain) + 1
        if count > MOST_LEVELS:
            raise StructureError(f"The structure {text!r} has {count:,} levels; leave some of its crossings out.")
        for depths in itertools.product(*(range(len(chain) + 1) for chain in term)):
            level = [0] * len(chains)
            for i, depth in zip(on, depths, strict=True):
                level[i] = depth
            levels.add(tuple(level))
    return Formula(tuple(chains), tuple(sorted(levels, key=lambda level: (sum(level), level))))


class _Reader:
    """Reads a formula from left to right into terms, what `+` stands between, each of chains that cross."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._tokens: list[tuple[str, str, int]] = []
        at = 0
        while at < len(text.rstrip()):
            found = _TOKEN.match(text, at)
            if found is None:
                raise StructureError(f"The structure {text!r} cannot be read from position {at + 1} on.")
            sign, quoted, plain = found.groups()
            self._tokens.append((sign or "", quoted or plain or "", found.start(found.lastindex or 0) + 1))
            at = found.end()
        self._at = 0

    def read(self) -> list[Term]:
        if not self._tokens:
            raise StructureError("The structure is empty; name at least one attribute or key.")
        terms = self._sum()
        if self._at < len(self._tokens):
            sign, _, place = self._tokens[self._at]
            raise StructureError(f"The structure {self._text!r} has {sign or 'a name'!r} at position {place} too many.")
        return list(dict.fromkeys(terms))

    def _next(self, *signs: str) -> bool:
        if self._at < len(self._tokens) and self._tokens[self._at][0] in signs:
            self._at += 1
            return True
        return False

    def _sum(self) -> list[Term]:
        terms = self._product()
        while self._next("+"):
            terms += self._product()
        return terms

    def _product(self) -> list[Term]:
        terms = self._nested()
        while self._next("*"):
            others = self._nested()
            terms = [one + other for one in terms for other in others]
        return terms

    def _nested(self) -> list[Term]:
        if self._next("("):
            terms = self._sum()
            if not self._next(")"):
                raise StructureError(f"The structure {self._text!r} lacks a closing parenthesis.")
            if self._at < len(self._tokens) and self._tokens[self._at][0] == ">":
                raise StructureError(f"The structure {self._text!r} nests something in a parenthesis; nest names.")
            return terms
        chain = [self._name()]
        while self._next(">"):
            chain.append(self._name())
        if len(set(chain)) < len(chain):
            raise StructureError(f"The structure {self._text!r} names {chain[-1]!r} twice in one chain.")
        return [(tuple(chain),)]

    def _name(self) -> str:
        if self._at < len(self._tokens) and not self._tokens[self._at][0]:
            self._at += 1
            return self._tokens[self._at - 1][1]
        place = self._tokens[self._at][2] if self._at < len(self._tokens) else len(self._text) + 1
        raise StructureError(f"The structure {self._text!r} lacks a name at position {place}.")
