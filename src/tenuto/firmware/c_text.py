"""The text of generated C: without comments and directives, and the text of its comments."""

from __future__ import annotations

import re
from ast import literal_eval
from typing import Any

from tenuto.basics.errors import TenutoError
from tenuto.firmware.numbers import SMALL_TIME_BITS

# The names of functions of math in the templates, and in Python.
FUNCTIONS = {
    "ABS": "abs", "ROOT": "sqrt", "SINE": "sin", "COSINE": "cos", "TANGENT": "tan", "ARC_TANGENT": "atan2",
    "EXPONENTIAL": "exp", "FLOOR": "floor", "isfinite": "isfinite", "isnan": "isnan", "POWER": "pow",
}  # fmt: skip
# Those that a module has to define itself.
OWN = ("HYPOT", "REMAINDER")


TYPES = """
typedef float robot_real; typedef _Bool bool; typedef unsigned char uint8_t; typedef signed char int8_t;
typedef unsigned short uint16_t; typedef short int16_t; typedef unsigned int uint32_t; typedef int int32_t;
typedef unsigned long size_t;
"""
MASKS = {"uint8_t": "0xFF", "uint16_t": "0xFFFF", "uint32_t": f"0x{2**SMALL_TIME_BITS - 1:X}", "size_t": ""}
INTEGERS = {*MASKS, "int8_t", "int16_t", "int32_t", "int", "char"}
WORDS = {"true": "True", "false": "False", "INFINITY": "inf", "NAN": "nan"}
# Differences of a board in MicroPython.
LEFT_OUT = re.compile(r"robot_(state_text|reason_text|output_name)")


class UnknownCodeError(TenutoError):
    """The C has a construct that is not supported."""


def plain(text: str) -> str:
    """Remove comments and directives from generated C, and replace what is defined."""
    text = re.sub(r"/\*.*?\*/", "", text, flags=re.S)
    text = re.sub(r"\bfrom\b", "origin", text)  # a word of Python
    values: dict[str, str] = {"PERHAPS": "", "IN_FLASH": ""}
    kept, skipping = list[str](), list[bool]()
    for line in text.splitlines():
        word = line.split()[:1]
        if word in (["#if"], ["#ifdef"], ["#ifndef"]):
            skipping.append(word != ["#ifndef"])  # neither an AVR, nor GNU's, nor C++
        elif word == ["#else"]:
            skipping[-1] = not skipping[-1]
        elif word == ["#endif"]:
            skipping.pop()
        elif any(skipping):
            continue
        elif made := re.match(r"#define (\w+)(\(\))?\s*(.*)", line):
            values.setdefault(made[1] + (made[2] or ""), made[3])
        elif not line.startswith("#"):
            kept.append(line)
    return _with_values("\n".join(kept), values)


def _with_values(text: str, values: dict[str, str]) -> str:
    text = re.sub(r"U?INT32_C\((\w+)\)", r"\1", text)
    for _ in range(2):  # a value may name another one
        for name, value in values.items():
            if not name.startswith(tuple(FUNCTIONS)) and name not in OWN:
                pattern = rf"\b{re.escape(name)}" + ("" if name.endswith("()") else r"\b")
                said = re.sub(r"U?INT32_C\((\w+)\)", r"\1", value).replace("\\", "")
                text = re.sub(pattern, said, text)
    return text


def comments_of(code: str) -> dict[str, str]:
    """Return the comment above each function, as comments of Python."""
    found = re.findall(r"/\*((?:(?!\*/).)*?)\*/\n(?:static )?[\w ]+?\*?(\w+)\([^;{]*\) \{", code, re.S)
    return {
        name: "\n".join(f"# {line.strip().removeprefix('*').strip()}".rstrip() for line in text.strip().splitlines())
        for text, name in found
    }


def constant(node: Any) -> tuple[str, str]:
    """Describe a constant, and its type."""
    if node.type == "char":
        return str(ord(literal_eval(node.value))), "int"
    text: str = node.value
    if node.type == "string":
        return f"b{text}", "char"
    if node.type in ("float", "double"):
        return text.rstrip("fF"), "real"
    return text.rstrip("uUlL"), "int"


def starred(c_ast: Any, body: Any) -> set[str]:
    """Return the names that are read or set through a star: they point to one number."""
    found = set[str]()
    if isinstance(body, c_ast.UnaryOp) and body.op == "*" and isinstance(body.expr, c_ast.ID):
        found.add(body.expr.name)
    return found.union(*(starred(c_ast, child) for _, child in body.children()))


def addressed(c_ast: Any, node: Any, pointed: dict[str, list[bool]]) -> set[str]:
    """Return the local numbers whose address is passed to a function that points to one number.

    Args:
        c_ast: the module of pycparser. node: a body. pointed: function → which of its parameters point to one number.
    """
    found = set[str]()
    if isinstance(node, c_ast.FuncCall) and node.args is not None:
        for one, points in zip(node.args.exprs, pointed.get(node.name.name, []), strict=False):
            if points and isinstance(one, c_ast.UnaryOp) and one.op == "&" and isinstance(one.expr, c_ast.ID):
                found.add(one.expr.name)
    return found.union(*(addressed(c_ast, child, pointed) for _, child in node.children()))


class Function:
    """One function being written: its names, and its global ones."""

    def __init__(self, node: Any) -> None:
        self.name: str = node.decl.name
        self.types: dict[str, str] = {}
        self.boxed: set[str] = set()  # locals whose address is taken
        self.references: set[str] = set()  # parameters that point to one number
        self.renamed: dict[str, str] = {}  # locals that last as long as the module
        self.kept: list[str] = []  # the lines that make them
        self.globals: set[str] = set()
        self.lines: list[str] = []
