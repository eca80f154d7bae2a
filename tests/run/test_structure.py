"""The shape of the code, as far as a tool can see it."""

import re
import subprocess
from pathlib import Path

import grimp
import pytest

ROOT = Path(__file__).parents[2]


def test_no_modules_import_each_other_in_a_circle():
    """Imports inside functions count too: a circle that is hidden there is one all the same."""
    # Imports for types alone never run: the package names what can be imported from it, and imports it at first use.
    graph = grimp.build_graph("watchtide", cache_dir=None, exclude_type_checking_imports=True)
    imports = {module: graph.find_modules_directly_imported_by(module) for module in graph.modules}
    # What imports nothing that is left, is left out; what stays is in a circle or imports one.
    while free := [module for module, others in imports.items() if not others & imports.keys()]:
        for module in free:
            del imports[module]
    assert not imports, sorted(imports)


@pytest.mark.skipif(not (ROOT / ".git").exists(), reason="an unpacked archive holds no list of files")
def test_nothing_that_is_kept_is_a_link():
    """A linked folder names a path of one machine, and takes the place of the folder itself on another."""
    listed = subprocess.run(
        ["git", "ls-files", "-s"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout
    assert [line.split("\t")[1] for line in listed.splitlines() if line.startswith("120000")] == []


def test_styles_are_few_and_each_class_of_a_module_is_in_one():
    """Classes keep their names in the page, so two modules with the same one would style each other."""
    source = ROOT / "web" / "src"
    text = {
        sheet.relative_to(source).as_posix(): re.sub(r"/\*.*?\*/", "", sheet.read_text(), flags=re.S)
        for sheet in source.rglob("*.css")
    }
    assert sum(sheet.read_text().count("\n") for sheet in source.rglob("*.css")) < 700
    assert [name for name in text if not name.endswith(".module.css")] == ["theme/base.css"]
    homes: dict[str, set[str]] = {}
    for name, rules in text.items():
        for selector in re.findall(r"([^{}]+)\{", rules):
            for known in re.findall(r"\.([a-z][\w-]*)", re.sub(r":global\([^)]*\)", "", selector)):
                homes.setdefault(known, set()).add(name)
    assert {known: names for known, names in homes.items() if len(names) > 1} == {}
