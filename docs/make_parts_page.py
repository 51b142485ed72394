"""Writes docs/parts.md from the catalogue: ``python docs/make_parts_page.py``."""

from pathlib import Path

from pendel.core.catalogue.declare import Block, Deck, Kind
from pendel.core.catalogue.index import kinds


def section(kind: Kind) -> str:
    ports = "; ".join(
        f"{p.name}: {p.label} ({p.link.value}{', ' + p.unit if p.unit not in ('', '*') else ''})" for p in kind.ports
    )
    rows = "".join(
        f"| `{v.name}` | {v.label} | {v.unit.replace('*', 'any') or '–'} | {v.default or '–'} |\n" for v in kind.values
    )
    table = f"\n| Value | Meaning | Unit | Default |\n|---|---|---|---|\n{rows}" if rows else ""
    choices = "".join(
        f"\n{c.label} `{c.name}`: {'; '.join(f'`{word}` {text}' for word, text in c.options)}.\n" for c in kind.choices
    )
    states = "; ".join(f"`{s.name}` {s.label} ({s.unit or '1'})" for s in getattr(kind, "states", ()))
    signals = "; ".join(f"`{s.name}` {s.label} ({s.unit or '1'})" for s in getattr(kind, "signals", ()))
    more = f"\nStates, which may be given a start: {states}.\n" if states else ""
    more += f"\nSignals: {signals}.\n" if signals else ""
    return f"### {kind.title} · `{kind.id}`\n{kind.sentence}\n\nPorts: {ports or 'as typed'}.\n{choices}{table}{more}\n"


def page() -> str:
    parts = [k for k in kinds().values() if not isinstance(k, Block)]
    sensors = [k for k in kinds().values() if isinstance(k, Block) and k.deck is Deck.SENSOR]
    blocks = [k for k in kinds().values() if isinstance(k, Block) and k.deck is Deck.CONTROL]
    groups = (("Parts", parts), ("Sensors", sensors), ("Blocks", blocks))
    body = "\n".join(f"## {title}\n" + "\n".join(map(section, found)) for title, found in groups)
    return f"# Parts and blocks\nMade from the catalogue by `docs/make_parts_page.py`.\n\n{body}"


if __name__ == "__main__":
    Path(__file__).with_name("parts.md").write_text(page(), "utf-8")
