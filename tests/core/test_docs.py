import re
from pathlib import Path

import pytest

from pendel.cli.main import ALL
from pendel.core.catalogue.index import kinds

DOCS = Path(__file__).parent.parent.parent / "docs"
EXAMPLES = [
    text
    for page in ("python.md", "adding.md")
    for text in re.findall(r"```python\n(.*?)```", (DOCS / page).read_text("utf-8"), re.S)
]


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_examples_of_the_pages_run(number, tmp_path, monkeypatch, example_path, capsys):
    monkeypatch.chdir(tmp_path)
    exec(EXAMPLES[number].replace("src/pendel/examples", str(example_path.parent)), {})
    assert capsys.readouterr().out


def test_the_page_of_the_terminal_has_every_verb():
    text = (DOCS / "terminal.md").read_text("utf-8")
    assert [v.name for v in ALL] == re.findall(r"^\| `(\w+)` \|", text, re.M)


def test_the_page_of_parts_lists_every_kind():
    text = (DOCS / "parts.md").read_text("utf-8")
    for kind in kinds().values():
        assert f"`{kind.id}`" in text, kind.id
        for value in kind.values:
            assert f"`{value.name}`" in text
