"""From the generated C to a module for MicroPython: the same code, translated.

It supports the C that the templates of this room write, and nothing else: plain functions, numbers, structs without
pointers in them, arrays. Anything else ends with an error, never with code that is only nearly the same.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cached_property
from typing import Any

from tenuto.basics.extras import needs
from tenuto.firmware.c_text import (
    FUNCTIONS,
    INTEGERS,
    LEFT_OUT,
    MASKS,
    OWN,
    TYPES,
    WORDS,
    Function,
    UnknownCodeError,
    addressed,
    comments_of,
    constant,
    plain,
    starred,
)


def to_python(header: str, code: str) -> str:
    """Return the module.

    Raises:
        UnknownCodeError: the C has a construct that is not supported.
        MissingPackageError: pycparser is not installed.
    """
    needs("pycparser")
    from pycparser import c_parser

    header = re.sub(r'extern "C" \{|^\}\s*$(?=\s*\Z)', "", plain(header), flags=re.M)
    tree = c_parser.CParser().parse(f"{TYPES}{header}\n{plain(code)}")
    return _Module(tree, comments_of(code)).text()


class _Module:
    """The module being written."""

    def __init__(self, tree: Any, comments: dict[str, str]) -> None:
        from pycparser import c_ast

        self._c, self._comments = c_ast, comments
        self._types: dict[str, str] = {}
        self._structs: dict[str, list[tuple[str, Any]]] = {}
        self._returns: dict[str, str] = {}
        self._out: list[str] = []
        self._pointed: dict[str, list[bool]] = {}
        self._function: Function | None = None
        functions = [one for one in tree.ext if isinstance(one, c_ast.FuncDef) and not LEFT_OUT.match(one.decl.name)]
        self._names = {one.decl.name for one in functions}
        for one in functions:
            self._learn(one)
        for one in tree.ext:
            if isinstance(one, c_ast.Typedef):
                self._typedef(one)
            elif isinstance(one, c_ast.Decl) and not isinstance(one.type, c_ast.FuncDecl):
                self._declare(one)
        for one in functions:
            self._define(one)

    def text(self) -> str:
        """Return all of it."""
        return "\n".join(self._out) + "\n"

    def _learn(self, node: Any) -> None:
        """Find the parameters of a function that point to one number: those that are read by a star."""
        c, stars = self._c, starred(self._c, node.body)
        self._returns[node.decl.name] = self._type_of(node.decl.type.type)
        parameters = node.decl.type.args.params if node.decl.type.args is not None else []
        self._pointed[node.decl.name] = [
            isinstance(one.type, c.PtrDecl) and one.name in stars and self._type_of(one.type.type) not in ("velocity",)
            for one in parameters
            if one.name is not None
        ]

    def _type_of(self, node: Any) -> str:
        c = self._c
        if isinstance(node, c.TypeDecl):
            return self._type_of(node.type)
        if isinstance(node, c.IdentifierType):
            return " ".join(node.names)
        if isinstance(node, c.Struct):
            return node.name or "seen"
        if isinstance(node, c.Enum):
            return "enum"
        if isinstance(node, (c.PtrDecl, c.ArrayDecl)):
            return self._type_of(node.type)
        raise UnknownCodeError(f"a type that is not known: {type(node).__name__}")

    def _typedef(self, node: Any) -> None:
        inner = node.type.type
        if isinstance(inner, self._c.Struct) and inner.decls:
            self._struct(node.name, inner)

    def _struct(self, name: str, node: Any) -> None:
        fields = [(one.name, one.type) for one in node.decls]
        self._structs[name] = fields
        if name == "velocity":
            return  # a list of its axes
        self._out += [f"class {name}:", "    def __init__(self):"]
        self._out += [f"        self.{field} = {self._empty(kind)}" for field, kind in fields] + [""]

    def _empty(self, kind: Any) -> str:
        c = self._c
        if isinstance(kind, c.ArrayDecl):
            size, of = self._expression(kind.dim)[0], self._empty(kind.type)
            return f"[{of} for _ in range({size})]" if "(" in of or "[" in of else f"[{of}] * {size}"
        name = self._type_of(kind)
        if name in self._structs:
            return "[0.0] * AXES" if name == "velocity" else f"{name}()"
        return {"real": "0.0", "robot_real": "0.0", "bool": "False"}.get(name, "0")

    def _declare(self, node: Any) -> None:
        """Write an enumeration or a variable of the module."""
        c = self._c
        if isinstance(node.type, c.Enum):
            for number, one in enumerate(node.type.values.enumerators if node.type.values else ()):
                self._out.append(f"{one.name} = {number if one.value is None else self._expression(one.value)[0]}")
            return
        if isinstance(node.type, c.Struct):
            return
        inner = node.type.type if isinstance(node.type, c.TypeDecl) else None
        if isinstance(inner, c.Struct) and inner.decls:
            self._struct(f"{node.name}_struct", inner)
            self._types[node.name] = f"{node.name}_struct"
            self._out.append(f"{node.name} = {node.name}_struct()")
            return
        self._types[node.name] = self._type_of(node.type)
        self._out += self._made(node.name, node)

    def _made(self, name: str, node: Any) -> list[str]:
        """Return the lines that make a variable of the module."""
        if node.init is None:
            return [f"{name} = {self._empty(node.type)}"]
        if not isinstance(node.init, self._c.InitList):
            return [f"{name} = {self._expression(node.init)[0]}"]
        values = [self._expression(one)[0] for one in node.init.exprs]
        kind = self._type_of(node.type)
        if kind in self._structs:
            fields = [field for field, _ in self._structs[kind]]
            pairs = zip(fields, values, strict=True)
            return [f"{name} = {kind}()", *(f"{name}.{field} = {value}" for field, value in pairs)]
        return [f"{name} = [{', '.join(values)}]"]

    def _define(self, node: Any) -> None:
        """Write a function. Its arrays and velocities are made once, with the module: a step makes only numbers."""
        function = self._function = Function(node)
        parameters = []
        for one, points in zip(
            [one for one in (node.decl.type.args.params if node.decl.type.args is not None else []) if one.name],
            self._pointed[function.name], strict=True,
        ):  # fmt: skip
            function.types[one.name] = self._type_of(one.type)
            parameters += [one.name, f"{one.name}_at"] if points else [one.name]
            if points:
                function.references.add(one.name)
        function.boxed = addressed(self._c, node.body, self._pointed)
        self._block(node.body, 1)
        said = self._comments.get(function.name, "")
        head = [f"    global {', '.join(sorted(function.globals))}"] if function.globals else []
        kept = [*function.kept, "", ""] if function.kept else []
        self._out += ["", "", *kept, *said.splitlines(), f"def {function.name}({', '.join(parameters)}):"]
        self._out += [*head, *(function.lines or ["    pass"])]
        self._function = None

    def _kept(self, node: Any) -> str:
        """Name a local that lasts as long as the module, and make no other of that name."""
        function = self._function
        assert function is not None
        name = f"{function.name}__{node.name}"
        while name in self._types:  # blocks of one function may each have one of that name
            name += "_"
        function.renamed[node.name] = name
        self._types[name] = function.types[node.name]
        return name

    def _say(self, depth: int, line: str) -> None:
        assert self._function is not None
        self._function.lines.append("    " * depth + line)

    def _block(self, node: Any, depth: int) -> None:
        """Write a statement, or those of a block."""
        items = (node.block_items or []) if isinstance(node, self._c.Compound) else [node]
        assert self._function is not None
        before = len(self._function.lines)
        for one in items:
            self._statement(one, depth)
        if len(self._function.lines) == before:
            self._say(depth, "pass")

    def _statement(self, node: Any, depth: int) -> None:
        writers = [write for kind, write in self._statements.items() if isinstance(node, kind)]
        (writers[0] if writers else self._effect)(node, depth)

    @cached_property
    def _statements(self) -> dict[Any, Callable[[Any, int], None]]:
        """The writers for each kind of statement; every other kind changes something."""
        c = self._c
        return {
            c.Decl: self._local, c.DeclList: self._each_of("decls"), c.Compound: self._block, c.If: self._if,
            c.For: self._for, c.While: self._while, c.DoWhile: self._do_while, c.Switch: self._switch,
            c.Return: self._return, c.ExprList: self._each_of("exprs"), c.EmptyStatement: lambda node, depth: None,
            c.Break: lambda node, depth: self._say(depth, "break"),
            c.Continue: lambda node, depth: self._say(depth, "continue"),
        }  # fmt: skip

    def _each_of(self, field: str) -> Callable[[Any, int], None]:
        def write(node: Any, depth: int) -> None:
            for one in getattr(node, field):
                self._statement(one, depth)

        return write

    def _while(self, node: Any, depth: int) -> None:
        self._say(depth, f"while {self._expression(node.cond)[0]}:")
        self._block(node.stmt, depth + 1)

    def _do_while(self, node: Any, depth: int) -> None:
        self._say(depth, "while True:")
        self._block(node.stmt, depth + 1)
        self._say(depth + 1, f"if not {self._expression(node.cond)[0]}: break")

    def _return(self, node: Any, depth: int) -> None:
        self._say(depth, f"return {self._expression(node.expr)[0] if node.expr is not None else ''}".rstrip())

    def _local(self, node: Any, depth: int) -> None:
        function = self._function
        assert function is not None
        function.types[node.name] = self._type_of(node.type)
        if "static" in node.storage:
            function.kept += self._made(self._kept(node), node)
            return
        boxed, lists = node.name in function.boxed, self._is_list(node.type)
        name = self._kept(node) if boxed or lists else node.name
        if boxed or lists:
            function.kept.append(f"{name} = [0]" if boxed else f"{name} = {self._empty(node.type)}")
        if lists and node.init is not None:
            self._say(depth, f"_copy({name}, {self._expression(node.init)[0]})")
        elif not lists and (node.init is not None or not boxed):
            value = self._empty(node.type) if node.init is None else self._expression(node.init)[0]
            self._say(depth, f"{name}{'[0]' * boxed} = {value}")

    def _is_list(self, kind: Any) -> bool:
        c = self._c
        return isinstance(kind, c.ArrayDecl) or (isinstance(kind, c.TypeDecl) and self._type_of(kind) == "velocity")

    def _if(self, node: Any, depth: int, word: str = "if") -> None:
        self._say(depth, f"{word} {self._expression(node.cond)[0]}:")
        self._block(node.iftrue, depth + 1)
        if isinstance(node.iffalse, self._c.If):
            self._if(node.iffalse, depth, "elif")
        elif node.iffalse is not None:
            self._say(depth, "else:")
            self._block(node.iffalse, depth + 1)

    def _for(self, node: Any, depth: int) -> None:
        """Write a loop that counts as a range, any other as a while."""
        c = self._c
        counts = (
            isinstance(node.next, c.UnaryOp) and node.next.op == "p++" and isinstance(node.cond, c.BinaryOp)
            and node.cond.op == "<" and isinstance(node.cond.left, c.ID) and node.cond.left.name == node.next.expr.name
        )  # fmt: skip
        if counts:
            name = node.next.expr.name
            start = self._expression(node.init.rvalue)[0] if node.init is not None else name
            self._say(depth, f"for {name} in range({start}, {self._expression(node.cond.right)[0]}):")
            self._block(node.stmt, depth + 1)
            return
        if node.init is not None:
            self._statement(node.init, depth)
        self._say(depth, f"while {self._expression(node.cond)[0] if node.cond is not None else 'True'}:")
        self._block(node.stmt, depth + 1)
        if node.next is not None:
            self._statement(node.next, depth + 1)

    def _switch(self, node: Any, depth: int) -> None:
        """Write a switch whose cases all end by themselves as a chain of ifs."""
        c = self._c
        said, labels, word = self._expression(node.cond)[0], list[str](), "if"
        default: list[Any] | None = None
        for case in node.stmt.block_items or []:
            body = [one for one in case.stmts or [] if not isinstance(one, c.Break)]
            if isinstance(case, c.Default):
                default = body
                continue
            labels.append(self._expression(case.expr)[0])
            if not case.stmts:
                continue
            tests = " or ".join(f"{said} == {label}" for label in labels)
            self._say(depth, f"{word} {tests}:")
            self._block(c.Compound(body), depth + 1)
            labels, word = [], "elif"
        if default is None:
            return
        if word == "if":
            self._block(c.Compound(default), depth)
        elif default:
            self._say(depth, "else:")
            self._block(c.Compound(default), depth + 1)

    def _effect(self, node: Any, depth: int) -> None:
        c = self._c
        if isinstance(node, c.Assignment):
            self._assign(node, depth)
        elif isinstance(node, c.UnaryOp) and node.op in ("p++", "++", "p--", "--"):
            target, kind = self._target(node.expr), self._expression(node.expr)[1]
            assert self._function is not None
            if kind in ("uint8_t", "uint16_t") and target in self._function.globals:  # what lasts may wrap
                self._say(depth, f"{target} = ({target} {node.op[-1]} 1) & {MASKS[kind]}")
            else:
                self._say(depth, f"{target} {node.op[-1]}= 1")
        elif isinstance(node, c.FuncCall):
            self._call_effect(node, depth)
        elif isinstance(node, c.Cast) and isinstance(node.expr, c.FuncCall):  # (void)f() calls it
            self._call_effect(node.expr, depth)
        elif not (isinstance(node, c.Cast) and isinstance(node.expr, (c.ID, c.Constant))):  # (void)x does nothing
            raise UnknownCodeError(f"a statement that is not known: {type(node).__name__}")

    def _assign(self, node: Any, depth: int) -> None:
        c = self._c
        if isinstance(node.rvalue, c.Assignment):
            self._assign(node.rvalue, depth)
            self._assign(c.Assignment("=", node.lvalue, node.rvalue.lvalue), depth)
            return
        steps = []
        counts = isinstance(node.lvalue, c.ArrayRef) and isinstance(node.lvalue.subscript, c.UnaryOp)
        if counts and node.lvalue.subscript.op == "p++":
            counter = node.lvalue.subscript.expr
            steps.append(f"{self._target(counter)} += 1")
            node.lvalue.subscript = counter
        (place, kind), value = self._expression(node.lvalue), self._expression(node.rvalue)[0]
        if kind == "velocity":
            self._say(depth, f"_copy({place}, {value})")
            return
        target = self._target(node.lvalue)
        if kind in MASKS and not isinstance(node.rvalue, (c.Constant, c.ID, c.ArrayRef, c.Cast)):
            value = f"({value}) & {MASKS[kind]}"
        if node.op in ("|=", "^=") or node.op == "=":
            self._say(depth, f"{target} {node.op} {value}")
        else:
            wrapped = f"{target} {'//' if node.op == '/=' and kind in INTEGERS else node.op[0]} ({value})"
            self._say(depth, f"{target} = {wrapped if kind not in MASKS else f'({wrapped}) & {MASKS[kind]}'}")
        for step in steps:
            self._say(depth, step)

    def _call_effect(self, node: Any, depth: int) -> None:
        name = node.name.name
        if name in ("memcpy", "memmove"):
            to, since = node.args.exprs[:2]
            self._say(depth, self._copied(to, since, node.args.exprs[2]))
        else:
            self._say(depth, self._expression(node)[0])

    def _copied(self, to: Any, since: Any, size: Any) -> str:
        c, target = self._c, self._expression(to)[0]
        if isinstance(size, c.UnaryOp):  # all of it
            return f"_copy({target}, {self._expression(since)[0]})"
        items = isinstance(size, c.BinaryOp) and size.op == "*"  # items times their size
        count = self._expression(size.left if items else size)[0]
        base, skipped = (
            (since.left, self._expression(since.right)[0]) if isinstance(since, c.BinaryOp) else (since, "0")
        )
        return f"_move({target}, {self._expression(base)[0]}, {skipped}, {count})"

    def _target(self, node: Any) -> str:
        """Return what is assigned to, and note what is global."""
        c, function = self._c, self._function
        assert function is not None
        if isinstance(node, c.ID):
            name = function.renamed.get(node.name, node.name)
            if name != node.name or node.name not in function.types:
                function.globals.add(name)
        return self._expression(node)[0]

    # ---- Expressions: their Python text, and their type in C. ----

    def _expression(self, node: Any) -> tuple[str, str]:
        for one, say in self._expressions.items():
            if isinstance(node, one):
                return say(node)
        raise UnknownCodeError(f"an expression that is not known: {type(node).__name__}")

    @cached_property
    def _expressions(self) -> dict[Any, Callable[[Any], tuple[str, str]]]:
        """The translators for each kind of expression."""
        c = self._c
        return {
            c.Constant: constant, c.ID: lambda node: self._name(node.name), c.BinaryOp: self._binary,
            c.UnaryOp: self._unary, c.TernaryOp: self._ternary, c.Cast: self._cast, c.FuncCall: self._call,
            c.ArrayRef: self._array, c.StructRef: self._struct_part,
        }  # fmt: skip

    def _ternary(self, node: Any) -> tuple[str, str]:
        (yes, kind), (no, other) = self._expression(node.iftrue), self._expression(node.iffalse)
        if kind == "velocity" and other == "int":
            no = "None"  # no address
        return f"({yes} if {self._expression(node.cond)[0]} else {no})", kind

    def _array(self, node: Any) -> tuple[str, str]:
        said, kind = self._expression(node.name)
        return f"{said}[{self._expression(node.subscript)[0]}]", kind

    def _struct_part(self, node: Any) -> tuple[str, str]:
        said, kind = self._expression(node.name)
        if kind == "velocity":
            return said, "real"  # its axes
        fields = dict(self._structs.get(kind, []))
        if node.field.name not in fields:
            raise UnknownCodeError(f"{said}, of the type {kind}, has no {node.field.name}")
        return f"{said}.{node.field.name}", self._type_of(fields[node.field.name])

    def _name(self, name: str) -> tuple[str, str]:
        function = self._function
        if function is not None and name in function.types:
            place = function.renamed.get(name, name)
            return (f"{place}[0]" if name in function.boxed else place), function.types[name]
        return WORDS.get(name, name), self._types.get(name, "int")

    def _binary(self, node: Any) -> tuple[str, str]:
        (left, one), (right, other) = self._expression(node.left), self._expression(node.right)
        kind = (
            "real"
            if {"real", "robot_real", "float"} & {one, other}
            else "uint32_t"
            if "uint32_t" in (one, other)
            else "int"
        )
        if node.op in ("&&", "||"):
            return f"({left} {'and' if node.op == '&&' else 'or'} {right})", "bool"
        if node.op in ("<", ">", "<=", ">=", "==", "!="):
            return f"({left} {node.op} {right})", "bool"
        if node.op == "/" and kind != "real":
            return f"({left} // {right})", kind
        said = f"({left} {node.op} {right})"
        return (f"({said} & {MASKS[kind]})" if kind == "uint32_t" and node.op in ("-", "+", "*", "<<") else said), kind

    def _unary(self, node: Any) -> tuple[str, str]:
        c, function = self._c, self._function
        if node.op == "*" and isinstance(node.expr, c.ID) and function is not None:
            name = node.expr.name
            if name in function.references:
                return f"{name}[{name}_at]", function.types[name]
            return self._name(name)
        said, kind = self._expression(node.expr)
        if node.op == "&":
            return said, kind
        if node.op == "!":
            return f"(not {said})", "bool"
        if node.op in ("-", "+"):
            return f"({node.op}{said})", kind
        raise UnknownCodeError(f"an operator that is not known: {node.op}")

    def _cast(self, node: Any) -> tuple[str, str]:
        said, inner = self._expression(node.expr)
        kind = self._type_of(node.to_type.type)
        if kind in ("real", "robot_real"):
            return f"float({said})", kind
        if inner in ("real", "robot_real") and kind in INTEGERS:
            said = f"int({said})"
        if kind == "int32_t":
            return f"_signed({said})", kind
        mask = MASKS.get(kind, "")
        return (f"({said} & {mask})" if mask else said), kind

    def _call(self, node: Any) -> tuple[str, str]:
        c, name = self._c, node.name.name
        arguments = list[str]()
        exprs = node.args.exprs if node.args is not None else []
        points = self._pointed.get(name, [False] * len(exprs))
        for one, pointed in zip(exprs, points, strict=False):
            if not pointed:
                nothing = isinstance(one, c.Constant) and name in ("ramp", "set_actuators") and one.value == "0"
                arguments.append("None" if nothing else self._expression(one)[0])
            elif isinstance(one, c.UnaryOp) and isinstance(one.expr, c.ArrayRef):
                arguments += [self._expression(one.expr.name)[0], self._expression(one.expr.subscript)[0]]
            elif isinstance(one, c.UnaryOp) and isinstance(one.expr, c.ID):
                arguments += [self._function.renamed[one.expr.name] if self._function else "", "0"]
            else:
                raise UnknownCodeError(f"{name} is handed an address that is not known")
        if name not in self._names and name not in FUNCTIONS and name not in OWN:
            raise UnknownCodeError(f"a function that is not known: {name}")
        kind = "real" if name not in self._names else self._returns[name]
        return (
            f"{FUNCTIONS.get(name, '_' + name.lower() if name not in self._names else name)}({', '.join(arguments)})",
            kind,
        )
