# SPDX-License-Identifier: GPL-3.0-or-later
"""Collect the words of the program and keep its translations up to date.

    translate.py            collect all words, update every catalogue, compile them
    translate.py --new fr   the same, and begin a catalogue for another language
    translate.py --check    say what is missing, wrong or stale; 1 when anything is

Catalogues are gettext's: data/locale/pulizia.pot holds the words, LANGUAGE/LC_MESSAGES/pulizia.po what they
become, and the compiled .mo beside it is what the window reads.
"""

from __future__ import annotations

import argparse
import ast
import io
import re
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from babel.messages.catalog import Catalog, Message
from babel.messages.extract import extract_from_dir
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po

from pulizia import __version__
from pulizia.delivery.targets import shipped_targets
from pulizia.project.templates import shipped_templates
from pulizia.report.manual import texts as manual_texts
from pulizia.score.recipe_library import shipped_recipes
from pulizia.settings.declare import declared as settings_of
from pulizia.tools.base import FAMILIES
from pulizia.tools.registry import ALL

SOURCE = Path(__file__).resolve().parent.parent / "src" / "pulizia"
LOCALE = SOURCE / "data" / "locale"
KEYWORDS = {"tr": None, "N_": None, "plural": (1, 2), "N_plural": (1, 2), "in_context": ((1, "c"), 2)}
LONG_AGO = datetime(2026, 1, 1, tzinfo=UTC)
FIELD = re.compile(r"(?<!\{)\{(\w+)[^}]*\}")
UNITS = re.compile(r"\b(k?Hz|dB(FS|TP)?|ms|s|LUFS|LKFS|LU|MB|GB)\b")
HEADER = """\
# Words of Pulizia.
# SPDX-License-Identifier: GPL-3.0-or-later
#"""


def declared() -> Iterator[tuple[str, str]]:
    """Words that stand in declarations and data, each with where it is shown."""
    for words in FAMILIES.values():
        yield words, "heading of tools"
    for tool in ALL:
        yield tool.title, "tool"
        yield tool.summary, f"tool {tool.title}"
        for declaration in settings_of(tool.settings).values():
            yield declaration.label, f"setting of {tool.title}"
            yield declaration.help, f"{tool.title}, {declaration.label}"
            for _word, shown in getattr(declaration, "options", ()):
                yield shown, f"choice of {tool.title}, {declaration.label}"
    for target in shipped_targets():
        yield target.title, "target"
        yield target.purpose, f"target {target.title}"
    for template in shipped_templates().values():
        yield template.name, "template"
        yield template.description, f"template {template.name}"
        for lane in template.lanes:
            yield lane.name, f"lane of the template {template.name}"
    for recipe in shipped_recipes().values():
        yield recipe.name, "recipe"
        yield recipe.description, f"recipe {recipe.name}"
    yield from manual_texts()


def words() -> Catalog:
    """All words of the program, as a catalogue without translations."""
    found = Catalog(project="Pulizia", version=__version__, header_comment=HEADER, charset="utf-8")
    for name, _line, message, comments, context in extract_from_dir(
        SOURCE,
        method_map=[("**.py", "python")],
        keywords=KEYWORDS,
        comment_tags=("Translators:",),
        strip_comment_tags=True,
    ):
        if not name.startswith("cli"):
            found.add(message, context=context, auto_comments=comments)
    for text, where in declared():
        found.add(text, auto_comments=[where] if found.get(text) is None else ())
    for message in list(found):
        if message.id and not any(is_spoken(form) for form in forms(message.id)):
            found.delete(message.id, message.context)
    return found


def is_spoken(text: str) -> bool:
    """Whether a text says anything beside its fields, signs and units."""
    plain = UNITS.sub(" ", FIELD.sub(" ", text))
    return any(c.isalpha() for c in plain)


def read(path: Path) -> Catalog:
    """A catalogue from its file."""
    with path.open("rb") as file:
        return read_po(file, locale=path.parent.parent.name, domain="pulizia")


def text_of(catalogue: Catalog) -> bytes:
    """A catalogue as the text of its file, the same for the same content."""
    made = io.BytesIO()
    write_po(
        made, catalogue, width=110, no_location=True, sort_output=True, ignore_obsolete=True, include_previous=False
    )
    return re.sub(rb'"(POT-Creation|PO-Revision)-Date:[^\n]*\n|"Generated-By:[^\n]*\n', b"", made.getvalue())


def compiled(catalogue: Catalog) -> bytes:
    """What the window reads; without the dates, which change although nothing else does."""
    catalogue.creation_date = catalogue.revision_date = LONG_AGO
    made = io.BytesIO()
    write_mo(made, catalogue)
    return made.getvalue()


def forms(text: str | tuple[str, ...] | list[str] | None) -> tuple[str, ...]:
    """The forms of a message: one, or one for each kind of number."""
    return (text,) if isinstance(text, str) else tuple(text or ("",))


def faults(template: Catalog, catalogue: Catalog, name: str) -> Iterator[str]:
    """What is missing or wrong in a translation."""
    for message in template:
        if not message.id:
            continue
        made: Message | None = catalogue.get(message.id, message.context)
        if made is None or not all(forms(made.string)) or not any(forms(made.string)):
            yield f"{name}: not translated: {message.id}"
            continue
        wanted = {field for form in forms(message.id) for field in FIELD.findall(form)}
        for form in forms(made.string):
            if extra := set(FIELD.findall(form)) - wanted:
                yield f"{name}: {form!r} has fields that are not there: {', '.join(sorted(extra))}"
            if isinstance(message.id, str) and (missing := wanted - set(FIELD.findall(form))):
                yield f"{name}: {form!r} lacks {', '.join(sorted(missing))}"
    yield from _strays(template, catalogue, name)


def _strays(template: Catalog, catalogue: Catalog, name: str) -> Iterator[str]:
    for message in catalogue:
        if message.id and template.get(message.id, message.context) is None:
            yield f"{name}: no longer in the program: {message.id}"
    once = {m.id: m.string for m in catalogue if isinstance(m.id, str) and m.id and m.string and not m.context}
    for text in set(once.values()) & set(once):
        if once[text] != text:
            yield f"{name}: {text!r} is also an English text with another meaning"


def hidden() -> list[str]:
    """Sentences inside formatted strings, which are collected by some versions of Python and not by others."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.JoinedStr):
                calls = [n for n in ast.walk(node) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)]
                found += [
                    f"{path.name}, line {call.lineno}: a sentence inside a formatted string is not collected"
                    for call in calls
                    if call.func.id in KEYWORDS and call.args and isinstance(call.args[0], ast.Constant)
                ]
    return found


def check() -> list[str]:
    """Everything that is wrong with the catalogues."""
    template = words()
    found = hidden()
    if not (LOCALE / "pulizia.pot").is_file() or text_of(template) != (LOCALE / "pulizia.pot").read_bytes():
        found.append("pulizia.pot is stale: run scripts/translate.py")
    for path in sorted(LOCALE.glob("*/LC_MESSAGES/pulizia.po")):
        catalogue = read(path)
        found += faults(template, catalogue, path.parent.parent.name)
        mo = path.with_suffix(".mo")
        if not mo.is_file() or mo.read_bytes() != compiled(catalogue):
            found.append(f"{path.parent.parent.name}: pulizia.mo is stale: run scripts/translate.py")
    return found


def update(new: str | None) -> None:
    """Write the words, and every catalogue with what is known of them."""
    template = words()
    LOCALE.mkdir(exist_ok=True)
    (LOCALE / "pulizia.pot").write_bytes(text_of(template))
    names = {path.parent.parent.name for path in LOCALE.glob("*/LC_MESSAGES/pulizia.po")} | ({new} if new else set())
    for name in sorted(names):
        path = LOCALE / name / "LC_MESSAGES" / "pulizia.po"
        path.parent.mkdir(parents=True, exist_ok=True)
        catalogue = read(path) if path.is_file() else Catalog(locale=name, domain="pulizia")
        catalogue.update(template, no_fuzzy_matching=True)
        catalogue.header_comment = HEADER
        path.write_bytes(text_of(catalogue))
        path.with_suffix(".mo").write_bytes(compiled(read(path)))
        open_ones = sum(1 for m in catalogue if m.id and not all(forms(m.string)))
        print(f"{name}: {len(catalogue)} texts, {open_ones} not translated")


def main() -> int:
    """Run; the exit code."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true")
    parser.add_argument("--new", metavar="LANGUAGE")
    options = parser.parse_args()
    if options.check:
        found = check()
        print("\n".join(found) or "The catalogues are complete.")
        return int(bool(found))
    update(options.new)
    return 0


if __name__ == "__main__":
    sys.exit(main())
