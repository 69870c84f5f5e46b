"""Stone and ink: the colours and shapes of the desk, in one place."""

from __future__ import annotations

from PySide6.QtGui import QColor, QFont, QFontDatabase

GROUND = "#ECE7DF"
PANEL = "#F6F3ED"
RAISED = "#FCFAF6"
INK = "#25231F"
SECTION = "#A79C8B"
INK2 = "#6C665B"
HAIR = "#D6CFC3"
VERDIGRIS = "#2C7A6B"
MADDER = "#A43C2E"
OCHRE = "#B57F28"
VIEW_TOP = "#F4F1EB"
VIEW_LOW = "#DAD4C9"

#: Mineral tints that stay apart for colour-blind eyes, with their names.
STONES = (
    ("sandstone", "#C8AE88"), ("slate", "#8796A3"), ("serpentine", "#8BA38A"), ("porphyry", "#AE8A89"),
    ("gabbro", "#7C7F86"), ("travertine", "#D8C9AE"),
)  # fmt: skip

#: Severity: colour, the mark that goes with it, and the word.
SEVERITY = {
    "stops": (MADDER, "■", "stops the mesh"),
    "costs": (OCHRE, "▲", "costs elements"),
    "note": (INK2, "○", "note"),
}


def rgb(colour: str) -> tuple[float, float, float]:
    c = QColor(colour)
    return c.redF(), c.greenF(), c.blueF()


def font(size: float = 10.0, weight: int = 400) -> QFont:
    """The desk's font with figures of equal width."""
    families = [f for f in ("Inter", "DejaVu Sans") if f in QFontDatabase.families()] or ["sans-serif"]
    out = QFont(families)
    out.setPointSizeF(size)
    out.setWeight(QFont.Weight(weight))
    out.setFeature(QFont.Tag("tnum"), 1)
    return out


STYLE = f"""
* {{ color: {INK}; }}
QMainWindow, #desk {{ background: {GROUND}; }}
#panel {{ background: {PANEL}; }}
QScrollArea, #scroll {{ background: transparent; border: none; }}
#title {{ color: {INK2}; font-size: 8.5pt; letter-spacing: 1px; }}
#dim {{ color: {INK2}; }}
#big {{ font-size: 13pt; }}
#wrong {{ color: {MADDER}; }}
QLineEdit[waiting="true"] {{ border-color: {VERDIGRIS}; border-style: dashed; }}
#card {{ background: {RAISED}; border: 1px solid {HAIR}; border-radius: 3px; }}
#card[chosen="true"] {{ border: 1px solid {INK2}; }}
#proposal {{ background: {RAISED}; border: none; border-left: 3px solid {VERDIGRIS}; }}
#proposal[state="refused"] {{ border-left: 3px solid {MADDER}; }}
QPushButton {{ background: transparent; border: 1px solid {HAIR}; border-radius: 3px; padding: 3px 9px; }}
QPushButton:hover {{ border-color: {INK2}; }}
QPushButton:disabled {{ color: #A9A294; }}
QPushButton#main {{ background: {VERDIGRIS}; color: #FFFFFF; border-color: {VERDIGRIS}; }}
QPushButton#main:disabled {{ background: #A9B8B2; border-color: #A9B8B2; }}
QPushButton#quiet {{ border: none; color: {INK2}; padding: 2px 4px; text-align: left; }}
QPushButton#quiet:hover {{ color: {VERDIGRIS}; }}
QPushButton#offer {{ border: none; color: {VERDIGRIS}; padding: 2px 4px; text-align: left; }}
QPushButton#offer:hover {{ background: {HAIR}; }}
QListWidget#found {{ background: {RAISED}; border: 1px solid {HAIR}; border-radius: 3px; }}
QListWidget#found::item {{ padding: 2px 6px; }}
QListWidget#found::item:selected {{ background: {HAIR}; color: {INK}; }}
QPushButton#chip {{ background: {RAISED}; border-radius: 10px; padding: 2px 10px; }}
QPushButton#chip[undone="true"] {{ color: #A9A294; border-style: dashed; }}
QPushButton#chip[off="true"] {{ color: #A9A294; text-decoration: line-through; }}
QPushButton#chip[trouble="true"] {{ color: {MADDER}; border-color: {MADDER}; }}
QPushButton#toggle:checked {{ background: {INK}; color: {PANEL}; border-color: {INK}; }}
QPushButton#choice {{ background: {RAISED}; text-align: left; padding: 3px 6px; }}
QPushButton::menu-indicator {{ width: 0; }}
QLineEdit, QDoubleSpinBox {{ background: {RAISED}; border: 1px solid {HAIR}; border-radius: 3px; padding: 3px 6px;
    selection-background-color: {VERDIGRIS}; }}
QLineEdit:focus, QDoubleSpinBox:focus {{ border-color: {VERDIGRIS}; }}
QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{ width: 0; border: none; }}
QProgressBar {{ background: {HAIR}; border: none; border-radius: 2px; max-height: 4px; }}
QProgressBar::chunk {{ background: {VERDIGRIS}; border-radius: 2px; }}
QScrollBar:vertical {{ background: transparent; width: 8px; }}
QScrollBar::handle:vertical {{ background: {HAIR}; border-radius: 4px; min-height: 24px; }}
QScrollBar::handle:vertical:disabled {{ background: transparent; }}
QScrollBar::add-line, QScrollBar::sub-line,
QScrollBar::add-page, QScrollBar::sub-page {{ height: 0; background: none; }}
QMenu {{ background: {RAISED}; border: 1px solid {HAIR}; }}
QMenu::item {{ padding: 4px 22px; }}
QMenu::item:selected {{ background: {HAIR}; }}
QToolTip {{ background: {INK}; color: {PANEL}; border: none; padding: 4px; }}
"""
