"""Everything that can be done, declared once: name, title, key, menu, method of the window."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ActionSpec:
    """``does`` names a method of the window or of one of its members. An empty title makes a separator."""

    name: str
    title: str
    menu: str
    key: str = ""
    does: str = ""


SEPARATOR = ""


def separator(menu: str) -> ActionSpec:
    return ActionSpec("", SEPARATOR, menu)


ACTIONS = (
    ActionSpec("new", "New drive", "File", "Ctrl+N", "files.new_drive"),
    ActionSpec("open", "Open …", "File", "Ctrl+O", "files.open_drive"),
    ActionSpec("examples", "Open an example", "File", "", "examples"),
    ActionSpec("recent", "Open recent", "File", "", "recent"),
    separator("File"),
    ActionSpec("save", "Save", "File", "Ctrl+S", "files.save_drive"),
    ActionSpec("save_as", "Save as …", "File", "Ctrl+Shift+S", "files.save_drive_as"),
    separator("File"),
    ActionSpec("save_traces", "Save traces …", "File", "Ctrl+E", "exports.save_traces"),
    ActionSpec("save_c", "Save C …", "File", "", "save_c"),
    separator("File"),
    ActionSpec("quit", "Quit", "File", "Ctrl+Q", "close"),
    ActionSpec("undo", "Undo", "Edit", "Ctrl+Z", "undo"),
    ActionSpec("redo", "Redo", "Edit", "Ctrl+Shift+Z", "redo"),
    separator("Edit"),
    ActionSpec("cut", "Cut", "Edit", "Ctrl+X", "cut"),
    ActionSpec("copy", "Copy", "Edit", "Ctrl+C", "copy"),
    ActionSpec("paste", "Paste", "Edit", "Ctrl+V", "paste"),
    ActionSpec("duplicate", "Duplicate", "Edit", "Ctrl+D", "duplicate"),
    ActionSpec("delete", "Delete", "Edit", "", "delete"),
    ActionSpec("select_all", "Select all", "Edit", "Ctrl+A", "select_all"),
    ActionSpec("rename", "Rename", "Edit", "F2", "rename"),
    ActionSpec("add", "Add a part or block …", "Insert", "A", "add_card"),
    ActionSpec("wire", "Wire …", "Insert", "W", "wire"),
    ActionSpec("tap", "Tap on this signal …", "Insert", "P", "tap"),
    ActionSpec("quantity", "Quantity …", "Insert", "Ctrl+K", "add_quantity"),
    separator("Insert"),
    ActionSpec("group", "Group into an assembly", "Insert", "Ctrl+G", "drive_page.group"),
    ActionSpec("dissolve", "Dissolve the assembly", "Insert", "Ctrl+Shift+G", "drive_page.dissolve"),
    ActionSpec("shelve", "Put the assembly on your shelf", "Insert", "", "drive_page.shelve"),
    ActionSpec("unshelve", "Take off your shelf", "Insert", "", "shelf"),
    ActionSpec("run", "Run or stop", "Run", "Ctrl+R", "run_or_stop"),
    ActionSpec("open_loop", "Open or close this loop", "Run", "Ctrl+L", "toggle_loop"),
    ActionSpec("ideal", "All sensors ideal", "Run", "Ctrl+I", "toggle_sensors"),
    ActionSpec("propose", "Propose gains of all loops", "Run", "Ctrl+Shift+L", "proposing.start"),
    separator("Run"),
    ActionSpec("copy_picture", "Copy picture", "Run", "Ctrl+Shift+C", "exports.copy_picture"),
    ActionSpec("save_picture", "Save picture …", "Run", "", "exports.save_picture"),
    ActionSpec("tidy", "Tidy the sheet", "View", "T", "tidy"),
    ActionSpec("fit", "Fit", "View", "F", "fit"),
    ActionSpec("open_circuit", "Open what is inside", "View", "O", "open_circuit"),
    ActionSpec("findings", "Findings", "View", "F8", "show_findings"),
    ActionSpec("speeds", "Speeds in rpm", "View", "", "unit_choices.toggle_speeds"),
    ActionSpec("next_area", "Next area", "View", "F6", "next_area"),
    ActionSpec("about", "About Pendel", "Help", "", "about"),
)
ON_SHEET = frozenset({"add", "wire", "tap", "tidy", "fit", "open_circuit"})
"""Single letters that act only while no text is being typed."""
