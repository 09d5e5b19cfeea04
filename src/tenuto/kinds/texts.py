"""Short texts that name a source or a sink, such as ``kind:place,key=value,…``, read by the options of the kind."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import MISSING, Field, fields
from difflib import get_close_matches
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeVar, get_args, get_origin, get_type_hints

from tenuto.basics.errors import TenutoError
from tenuto.kinds.options import about
from tenuto.kinds.registry import Kinds

Options = TypeVar("Options")


class ShortText(NamedTuple):
    """The parts of a short text."""

    kind: str
    place: str
    options: dict[str, str]


def parse_short_text(text: str, error: type[TenutoError]) -> ShortText:
    """Split a short text. Raises ``error`` for an option without a value."""
    kind, _, rest = text.partition(":")
    place, *options = rest.split(",")
    found: dict[str, str] = {}
    for option in options:
        key, equals, value = option.partition("=")
        if not (key and equals and value):
            raise error(f'{text}: expected options like key=value after the first comma, found "{option}"')
        found[key] = value
    return ShortText(kind, place, found)


def form_of(options: Any) -> str:
    """Describe the form of a short text of a kind: ``lines:PORT[,baud=N]``."""
    place, rest = "", ""
    for one in fields(options):
        said = about(one)
        if not said.word:
            continue
        if said.place:
            place = f":{said.word}" if _needed(one) else f"[:{said.word}]"
        else:
            rest += f",{one.name}={said.word}" if _needed(one) else f"[,{one.name}={said.word}]"
    return f"{options.kind}{place}{rest}"


def read_text(text: str, kinds: Kinds[Options], error: type[TenutoError]) -> Options:
    """Read the options from a short text.

    Raises:
        error: it names no kind, has a place too many or too few, has an unknown or unreadable option, or
            lacks one. The text describes what was expected.
    """
    parts = parse_short_text(text, error)
    options = kinds.find(parts.kind)
    if options is None:
        close = get_close_matches(parts.kind, kinds.all, 1)
        meant = f'; did you mean "{close[0]}"?' if close else ""
        raise error(f'{text}: expected {kinds.what}: {", ".join(kinds.all)}; found "{parts.kind}"{meant}')
    return read_parts(text, parts, options, error)


def read_parts(text: str, parts: ShortText, options: type[Options], error: type[TenutoError]) -> Options:
    """Read the options of one kind from the parts of a short text. Raises as `read_text`."""
    from pydantic import ValidationError

    from tenuto.kinds.tables import made, table_of

    known = {one.name: one for one in fields(options) if about(one).word}  # type: ignore[arg-type]
    places = [name for name, one in known.items() if about(one).place]
    for key in parts.options:
        if key not in known or key in places:
            others = ", ".join(name for name in known if name not in places) or "none"
            raise error(f'{text}: unknown option "{key}"; known: {others}')
    given: dict[str, Any] = {name: _value(one, options, parts.options) for name, one in known.items()}
    if parts.place:
        if not places:
            raise error(f'expected {form_of(options)}; found "{text}"')
        given[places[0]] = _value(known[places[0]], options, {places[0]: parts.place})
    given = {name: value for name, value in given.items() if value is not None}
    if any(name not in given and _needed(known[name]) for name in places):
        raise error(f'expected {form_of(options)}; found "{text}"')
    try:
        return made(table_of(options).model_validate(given))  # type: ignore[no-any-return]
    except ValidationError as wrong:
        key = str(wrong.errors()[0]["loc"][0])
        texts = {**parts.options, **dict.fromkeys(places, parts.place)}
        found = f'"{texts[key]}"' if texts.get(key) else "nothing"
        said = about(known[key])
        raise error(f"{text}: {key}: expected {said.expected}, found {found}; its form is {form_of(options)}") from None


def _needed(one: Field[Any]) -> bool:
    return one.default is MISSING and one.default_factory is MISSING


def _value(one: Field[Any], options: Any, given: Mapping[str, str]) -> Any:
    """Convert the text of an option towards its type; the table checks it."""
    text = given.get(one.name)
    if text is None:
        return None
    hint = get_type_hints(options)[one.name]
    kinds = {get_origin(part) or part for part in (hint, *get_args(hint))}
    if tuple in kinds:
        words = text.split("|")
        whole = int in get_args(hint) and all(word.isdecimal() and len(word) < 10 for word in words)
        return [int(word) for word in words] if whole else words
    if bool in kinds:
        return {"true": True, "false": False}.get(text, text)
    literals = [word for part in (hint, *get_args(hint)) if get_origin(part) is Literal for word in get_args(part)]
    for kind in (int, float):
        if kind in kinds or any(type(word) is kind for word in literals):
            try:
                return kind(text)
            except ValueError:
                continue
    return text


def with_whole_paths(text: str, kinds: Kinds[Options], error: type[TenutoError], folder: Path) -> str:
    """Return a short text with the files that it names as absolute paths, to be used in another folder.

    Args:
        text, kinds, error: as for `read_text`. folder: where it will be used.

    Raises:
        error: as `read_text`; or a file that is to be read is not there, or a path has a comma.
    """
    options, parts = read_text(text, kinds, error), parse_short_text(text, error)
    place, said = parts.place, dict(parts.options)
    for name, path, read in files_of(options):
        whole = Path(path).absolute()
        if read and not whole.exists():
            raise error(f"{text}: {name}: there is no file {whole}")
        written = str(whole)
        if "," in written:  # which separates the options
            written = str(whole.relative_to(folder)) if whole.is_relative_to(folder) else written
        if "," in written:
            raise error(f"{text}: {name}: the path {written} has a comma: rename it, or move the file to {folder}")
        if name in said:
            said[name] = written
        else:
            place = place.replace(path, written, 1)
    rest = "".join(f",{key}={value}" for key, value in said.items())
    return f"{parts.kind}{':' if place or rest else ''}{place}{rest}"


def files_of(options: Any) -> Iterator[tuple[str, str, bool]]:
    """List the options that name a file: the option, its path, and whether it is read, as a key, or written."""
    for one in fields(options):
        word, value = about(one).word, getattr(options, one.name)
        if "FILE" in word and isinstance(value, str) and value != "system" and not value.startswith("/dev/"):
            yield one.name, value, word == "FILE"
