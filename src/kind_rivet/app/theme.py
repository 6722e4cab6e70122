"""Colours, fonts and the style sheet."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QPalette
from PySide6.QtWidgets import QApplication

PAPER, PANEL, INK, MUTED, RULE = "#F6F3EC", "#FFFDF8", "#22303C", "#6B7680", "#DED8CB"
COPPER, FOCUS, STAGE = "#B5532A", "#2F6F8F", "#ECEAE3"
SOUND, UNEASY, FAILING = "#2E7D73", "#D9B44A", "#A4243B"
GRADE_COLOURS = (SOUND, UNEASY, FAILING)

ARROW = (Path(__file__).parent / "images" / "down.png").as_posix()

SHEET = f"""
QWidget {{ background: {PAPER}; color: {INK}; }}
QLabel, QCheckBox, QRadioButton {{ background: transparent; }}
QFrame#panel, QFrame#card, QListWidget, QTreeWidget, QTableWidget, QPlainTextEdit {{ background: {PANEL}; border: 1px solid {RULE}; border-radius: 4px; }}
QFrame#header {{ background: {PANEL}; border-bottom: 1px solid {RULE}; }}
QLabel#title {{ font-weight: 600; }}
QLabel#muted {{ color: {MUTED}; }}
QLabel#effect {{ color: {COPPER}; }}
QLabel#pulse {{ padding: 4px 10px; background: {PANEL}; border-top: 1px solid {RULE}; }}
QPushButton, QToolButton {{ background: {PANEL}; border: 1px solid {RULE}; border-radius: 4px; padding: 4px 10px; }}
QToolButton {{ padding: 3px 4px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {FOCUS}; }}
QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus {{ border: 1px solid {FOCUS}; }}
QPushButton:disabled, QToolButton:disabled {{ color: #AAA69B; background: {PAPER}; }}
QPushButton#keep {{ background: {COPPER}; color: white; border-color: {COPPER}; }}
QPushButton#keep:disabled {{ background: #E6D3C8; border-color: #E6D3C8; color: {PANEL}; }}
QToolButton:checked {{ background: {FOCUS}; color: white; border-color: {FOCUS}; }}
QPushButton#stop {{ text-align: left; border: none; border-left: 3px solid transparent; border-radius: 0; padding: 5px 8px; background: transparent; }}
QPushButton#stop:checked {{ border-left: 3px solid {COPPER}; background: {PANEL}; }}
QPushButton#stop:hover {{ background: {PANEL}; }}
QPushButton#cardhead {{ text-align: left; border: none; padding: 7px 8px; font-weight: 600; background: transparent; }}
QPushButton#cardhead:hover {{ color: {COPPER}; }}
QLineEdit {{ background: {PANEL}; border: 1px solid {RULE}; border-radius: 3px; padding: 3px 6px; selection-background-color: {FOCUS}; }}
QComboBox {{ background: {PANEL}; border: 1px solid {RULE}; border-radius: 3px; padding: 3px 6px; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url({ARROW}); width: 10px; height: 6px; }}
QFrame#card QWidget {{ background: {PANEL}; }}
QFrame#card QPushButton#keep {{ background: {COPPER}; }}
QFrame#card QPushButton#keep:disabled {{ background: #E6D3C8; }}
QListWidget::item:selected, QTreeWidget::item:selected, QTableWidget::item:selected {{ background: #DCE7EC; color: {INK}; }}
QHeaderView::section {{ background: {PAPER}; border: none; border-bottom: 1px solid {RULE}; padding: 3px 6px; color: {MUTED}; }}
QTabWidget::pane {{ border: none; }}
QTabBar::tab {{ background: transparent; padding: 4px 12px; color: {MUTED}; border-bottom: 2px solid transparent; }}
QTabBar::tab:selected {{ color: {INK}; border-bottom: 2px solid {COPPER}; }}
QProgressBar {{ border: 1px solid {RULE}; border-radius: 3px; background: {PANEL}; text-align: center; max-height: 16px; }}
QProgressBar::chunk {{ background: {FOCUS}; }}
QScrollArea {{ border: none; }}
QFrame#inner {{ border: none; background: {PANEL}; }}
QPushButton#slot {{ text-align: left; padding: 4px 8px; border-left: 3px solid {RULE}; }}
QPushButton#slot:checked {{ border-left: 3px solid {FOCUS}; background: #EEF3F5; }}
QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
QScrollBar::handle {{ background: #CFC8B8; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::handle:hover {{ background: {MUTED}; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; width: 0; height: 0; }}
QMenu {{ background: {PANEL}; border: 1px solid {RULE}; }}
QMenu::item:selected {{ background: #DCE7EC; }}
QSlider::groove:horizontal {{ height: 3px; background: {RULE}; }}
QSlider::handle:horizontal {{ background: {FOCUS}; width: 12px; margin: -5px 0; border-radius: 6px; }}
QSplitter::handle {{ background: {RULE}; }}
QToolTip {{ background: {PANEL}; color: {INK}; border: 1px solid {RULE}; }}
"""


def apply_theme(app: QApplication) -> None:
    """Fusion as a base, our colours over it; once, for every call dresses all widgets there are anew."""
    if app.styleSheet() == SHEET:
        return
    app.setStyle("Fusion")
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, PAPER), (QPalette.ColorRole.Base, PANEL), (QPalette.ColorRole.Text, INK), (QPalette.ColorRole.WindowText, INK),
        (QPalette.ColorRole.Button, PANEL), (QPalette.ColorRole.ButtonText, INK), (QPalette.ColorRole.Highlight, FOCUS), (QPalette.ColorRole.HighlightedText, "#FFFFFF"),
        (QPalette.ColorRole.PlaceholderText, MUTED),
    ):  # fmt: skip
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    font = QFont("DejaVu Sans")
    font.setPointSizeF(9.0)
    app.setFont(font)
    app.setStyleSheet(SHEET)


def rgb(colour: str) -> tuple[float, float, float]:
    """0 … 1 components of #RRGGBB."""
    return (int(colour[1:3], 16) / 255, int(colour[3:5], 16) / 255, int(colour[5:7], 16) / 255)


def place_words(p: Iterable[float], digits: int = 4) -> str:
    """Coordinates in brackets; what is nearly nothing is 0."""
    values = [float(v) for v in p]
    small = 1e-9 * max(1.0, *(abs(v) for v in values))
    return "(" + ", ".join(f"{0.0 if abs(v) < small else v:.{digits}g}" for v in values) + ")"


def number(value: float, digits: int = 4) -> str:
    """A number with a thin space between thousands."""
    if isinstance(value, int) or (float(value).is_integer() and abs(value) < 1e15):
        return f"{int(value):,}".replace(",", "\u2009")
    return f"{value:.{digits}g}"
