"""Formulas over numbers: parsed to a tree that can only calculate."""

from __future__ import annotations

import ast
import math
import operator
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from hemtra.core.errors import HemtraError, NotMeasured

LONGEST, DEEPEST = 500, 40
"""Letters of a formula, and how deep it may nest."""
LARGEST_POWER = 32.0
TRIES = 5
_parsing = threading.Lock()

_BINARY: Mapping[type[ast.operator], Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
}
_COMPARE: Mapping[type[ast.cmpop], Callable[[float, float], bool]] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
FUNCTIONS: Mapping[str, tuple[int, Callable[..., float]]] = {
    "min": (-1, min),
    "max": (-1, max),
    "mean": (-1, lambda *v: sum(v) / len(v)),
    "abs": (1, abs),
    "sqrt": (1, math.sqrt),
    "sin": (1, lambda v: math.sin(math.radians(v))),
    "cos": (1, lambda v: math.cos(math.radians(v))),
    "tan": (1, lambda v: math.tan(math.radians(v))),
    "atan": (1, lambda v: math.degrees(math.atan(v))),
    "asin": (1, lambda v: math.degrees(math.asin(v))),
    "acos": (1, lambda v: math.degrees(math.acos(v))),
}
"""Functions by name: number of arguments, -1 for any, and the computation. Angles are in degrees."""


@dataclass(frozen=True)
class Formula:
    """A parsed formula and the names it uses."""

    text: str
    tree: ast.expr
    names: frozenset[str]

    def value(self, numbers: Mapping[str, float]) -> float:
        """Its value. Raises `NotMeasured` for an unknown name, a division by zero, or no finite value."""
        try:
            found = float(_value(self.tree, numbers))
        except KeyError as error:
            raise NotMeasured(
                f"the formula names {error.args[0]}, and nothing of that name is connected"
            ) from None
        except ZeroDivisionError:
            raise NotMeasured("the formula divides by zero") from None
        except (ValueError, OverflowError):
            raise NotMeasured(
                "the formula has no value for these numbers, as a root of less than zero"
            ) from None
        if not math.isfinite(found):
            raise NotMeasured("the formula gives no finite number")
        return found


@lru_cache(maxsize=512)
def parse_formula(text: str) -> Formula:
    """Read a formula: + - * / ^, comparisons, `a if b > c else d`, and `FUNCTIONS`.

    Raises `HemtraError` that names what it cannot be made of.
    """
    if len(text) > LONGEST:
        raise HemtraError(f"A formula has at most {LONGEST} letters, this one {len(text)}.")
    try:
        tree = _tree(text.strip().replace("^", "**") or " ")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise HemtraError(f"“{text}” is no formula; write it like (a + b) / 2 or max(a, b) - c.") from None
    names: set[str] = set()
    _check(tree, names, 0)
    return Formula(text, tree, frozenset(names))


def _tree(text: str) -> ast.expr:
    """Python's own reading of an expression; one thread at a time, since it counts its depth in one place."""
    with _parsing:
        for _ in range(TRIES):
            try:
                return ast.parse(text, mode="eval").body
            except SystemError:
                continue  # somebody else has read something meanwhile
        return ast.parse(text, mode="eval").body


def _check(node: ast.expr, names: set[str], depth: int) -> None:
    """Nothing but what calculates. Raises `HemtraError`."""
    if depth > DEEPEST:
        raise HemtraError("The formula is nested too deeply; split it in two.")
    children: list[ast.expr] = []
    if (
        isinstance(node, ast.Constant)
        and isinstance(node.value, (int, float))
        and not isinstance(node.value, bool)
    ):
        return
    if isinstance(node, ast.Name):
        if node.id in FUNCTIONS:
            raise HemtraError(f"{node.id} is a function; write {node.id}(…).")
        names.add(node.id)
        return
    if isinstance(node, ast.BinOp) and isinstance(node.op, (*_BINARY, ast.Div, ast.Pow)):
        children = [node.left, node.right]
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
        children = [node.operand]
    elif isinstance(node, ast.Compare) and all(type(op) in _COMPARE for op in node.ops):
        children = [node.left, *node.comparators]
    elif isinstance(node, ast.BoolOp):
        children = node.values
    elif isinstance(node, ast.IfExp):
        children = [node.test, node.body, node.orelse]
    elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
        if node.func.id not in FUNCTIONS:
            raise HemtraError(f"There is no function {node.func.id}; there are {', '.join(FUNCTIONS)}.")
        wanted = FUNCTIONS[node.func.id][0]
        if not node.args or (wanted > 0 and len(node.args) != wanted):
            raise HemtraError(f"{node.func.id} takes {'at least one' if wanted < 0 else wanted} number.")
        children = node.args
    else:
        raise HemtraError("A formula is made of numbers, names, + - * / ^, comparisons and functions only.")
    for child in children:
        _check(child, names, depth + 1)


def _value(node: ast.expr, numbers: Mapping[str, float]) -> float:
    match node:
        case ast.Constant():
            return float(node.value)  # type: ignore[arg-type]
        case ast.Name():
            return numbers[node.id]
        case ast.BinOp():
            left, right = _value(node.left, numbers), _value(node.right, numbers)
            if isinstance(node.op, ast.Div):
                return left / right
            if isinstance(node.op, ast.Pow):
                if abs(right) > LARGEST_POWER:
                    raise OverflowError
                return float(left**right) if left >= 0 or right == int(right) else math.nan
            return _BINARY[type(node.op)](left, right)
        case ast.UnaryOp():
            value = _value(node.operand, numbers)
            return -value if isinstance(node.op, ast.USub) else value
        case ast.Compare():
            values = [_value(part, numbers) for part in (node.left, *node.comparators)]
            pairs = zip(node.ops, values, values[1:], strict=False)
            return float(all(_COMPARE[type(op)](a, b) for op, a, b in pairs))
        case ast.BoolOp():
            # one after the other: what is settled needs no value that is missing
            truths = (_value(part, numbers) != 0.0 for part in node.values)
            return float(all(truths) if isinstance(node.op, ast.And) else any(truths))
        case ast.IfExp():
            return _value(node.body if _value(node.test, numbers) != 0.0 else node.orelse, numbers)
        case ast.Call(func=ast.Name(id=name)):
            return float(FUNCTIONS[name][1](*(_value(part, numbers) for part in node.args)))
    raise AssertionError("the tree was checked when it was parsed")
