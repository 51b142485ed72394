"""Pages of help for the site of ``./run docs``: those that the window shows, from the same declarations."""

from mkdocs.structure.files import File, Files

from pendel.core.catalogue.help import as_markdown, help_of
from pendel.core.catalogue.index import kinds
from pendel.core.topics import topics

FOLDER = "help"


def pages() -> dict[str, tuple[str, str]]:
    """Titles and Markdown by the name of their file: of all kinds, then of all topics."""
    of_kinds = {kind.id: (kind.title, as_markdown(help_of(kind))) for kind in kinds().values()}
    of_topics = {key.replace(":", "-").replace(" ", "_"): (t.title, as_markdown(t.page)) for key, t in topics().items()}
    return of_kinds | of_topics


def on_files(files: Files, config) -> Files:
    made = pages()
    lines = "\n".join(f"- [{title}]({name}.md)" for name, (title, _) in sorted(made.items(), key=lambda p: p[1][0]))
    texts = {name: text for name, (_, text) in made.items()}
    head = "All parts, blocks, settings, measures and methods, as the window's help has them."
    texts["index"] = f"# Help\n\n{head}\n\n{lines}\n"
    for name, text in texts.items():
        files.append(File.generated(config, f"{FOLDER}/{name}.md", content=text))
    return files
