import html
import re
from pathlib import Path

import pytest
from markdown_it import MarkdownIt

from pendel.cli.main import ALL
from pendel.core.catalogue.help import HelpPage, Section, as_markdown, help_of
from pendel.core.catalogue.index import kinds
from pendel.core.topics import topics

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


def test_pages_of_help_for_the_site_say_what_the_window_says_and_bring_no_marks_of_their_own():
    shows = MarkdownIt("commonmark").enable("table").render
    for page in [*map(help_of, kinds().values()), *(topic.page for topic in topics().values())]:
        shown = shows(as_markdown(page))
        assert not re.search(r"<(?!/?(h1|h2|p|pre|code|table|thead|tbody|tr|th|td)\b)", shown), page.title
        text = " ".join(html.unescape(re.sub(r"<[^>]+>", " ", shown)).split())
        for section in page.sections:
            for part in (section.title, section.text, *(cell for row in section.rows for cell in row)):
                assert " ".join(part.split()) in text, (page.title, part)
    hostile = HelpPage("<script>", "**a** | [b](javascript:x)", (Section("_T_", (("`a`", "|", "<b>"),)),))
    shown = shows(as_markdown(hostile))
    assert "<script" not in shown and "<a" not in shown and "<strong" not in shown and shown.count("<td>") == 3
