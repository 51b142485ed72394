"""What differs between two drives, in the words of the window: how runs are named."""

from __future__ import annotations

from dataclasses import replace

from pendel.core.catalogue.index import known_kind
from pendel.core.drive.document import Card, Drive, End, Wire
from pendel.core.quantities.expressions import is_literal

DATA = {
    "profile": "profile",
    "own": "equations",
    "starts": "starting values",
    "rows": "table",
    "flux": "flux tables",
}
"""What a card may hold beside values and choices, and what users call it."""


def title_of(card: Card) -> str:
    """What the inspector calls a card's kind."""
    kind = known_kind(card)
    return kind.title if kind is not None else card.kind


def value_told(card: Card, name: str) -> str:
    """What a field shows: as written, or the catalogue's own; a bare number with its unit."""
    kind = known_kind(card)
    spec = next((v for v in kind.values if v.name == name), None) if kind is not None else None
    text = card.values.get(name, spec.default if spec else "")
    try:
        float(text)
    except ValueError:
        return text or "empty"
    return f"{text} {spec.unit}".strip() if spec else text


def choice_told(card: Card, name: str) -> str:
    kind = known_kind(card)
    spec = next((c for c in kind.choices if c.name == name), None) if kind is not None else None
    chosen = card.choices.get(name, spec.default if spec else "")
    return dict(spec.options).get(chosen, chosen) if spec else chosen


def name_before(old: Drive, drive: Drive, key: str, card: Card) -> str:
    """The id that a card had which is only called otherwise now; empty where it is another one."""
    if key in old.cards:
        return ""
    gone = (was for was, record in old.cards.items() if was not in drive.cards and same_but_for_name(record, card))
    return next(gone, "")


def same_but_for_name(a: Card, b: Card) -> bool:
    return replace(a, name=b.name, x=b.x, y=b.y, tuned_on=b.tuned_on) == b


def written(text: str) -> str:
    """A figure with its unit as it is read, not as it is typed: ``35 A·s/m``."""
    return text.replace("*", "·") if is_literal(text) else text


def differences(old: Drive | None, drive: Drive, maximum: int = 3, *, both: bool = False) -> str:
    """What differs from the run before, for naming a run: ``K_p 15 A·s/m``; with ``both``, what it was before, too."""
    if old is None:
        return "first run"
    sentences: list[str] = []

    def told(what: str, was: str, now: str) -> str:
        return f"{what} {f'{written(was)} → ' if both else ''}{written(now)}"

    for name, quantity in drive.quantities.items():
        before = old.quantities.get(name)
        if before and before.text != quantity.text:
            sentences.append(told(name, before.text, quantity.text))
    called = {key: was for key, card in drive.cards.items() if (was := name_before(old, drive, key, card))}
    for key, card in drive.cards.items():
        before = old.cards.get(called.get(key, key))
        if before is None:
            sentences.append(f"with {card.name}")
            continue
        if before.name != card.name:
            sentences.append(f"{before.name} is called {card.name}")
        if before.kind != card.kind:
            sentences.append(told(f"{card.name}:", title_of(before), title_of(card)))
        for name in sorted(card.values.keys() | before.values.keys()) if card.kind == before.kind else ():
            was, now = value_told(before, name), value_told(card, name)
            if was != now:  # not where a default was written out
                sentences.append(told(f"{card.name} {name}", was, now))
        for name in sorted(card.choices.keys() | before.choices.keys()) if card.kind == before.kind else ():
            if choice_told(before, name) != choice_told(card, name):
                sentences.append(f"{card.name}: {choice_told(card, name)}")
        for field, words in DATA.items():
            if getattr(card, field) != getattr(before, field):
                sentences.append(f"{card.name}: {words} changed")
    gone = old.cards.keys() - drive.cards.keys() - set(called.values())
    sentences += [f"without {card.name}" for key, card in old.cards.items() if key in gone]
    sentences += [
        told(f"{c.name} phase", f"{old.cards[key].phase or 0}", f"{c.phase or 0}")
        for key, c in drive.cards.items()
        if key in old.cards and old.cards[key].phase != c.phase
    ]
    now_called = {was: key for key, was in called.items()}
    ends = [[End(now_called.get(e.card, e.card), e.port) for e in (w.a, w.b)] for w in old.wires.values()]
    if {Wire(*pair).key for pair in ends} != set(drive.wires):
        sentences.append("wired differently")
    if old.settings.get("level") != drive.settings["level"]:
        sentences.insert(0, str(drive.settings["level"]))
    for name in ("until", "sensors", "tolerance", "method", "step", "tick", "computing_delay", "seed"):
        if old.settings.get(name) != drive.settings[name]:
            sentences.append(f"{name.replace('_', ' ')} {drive.settings[name]}")
    if old.settings.get("controller", "as modelled") != drive.settings["controller"]:
        sentences.append(f"controller {drive.settings['controller']}")
    if drive.settings["controller"] == "as shipped" and shipped_facts(old) != shipped_facts(drive):
        sentences.append("other number formats")
    return ", ".join(sentences[:maximum]) + (" …" if len(sentences) > maximum else "") if sentences else "as before"


def shipped_facts(drive: Drive) -> list[object]:
    """What of a drive decides how its controller is shipped, besides values."""
    cards = [(key, c.number_format, c.ranges, c.seen, c.live) for key, c in drive.cards.items()]
    return [drive.settings.get("number_format"), *cards]
