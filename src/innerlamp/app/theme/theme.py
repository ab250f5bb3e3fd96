"""The two themes, paper and night: colours, style sheet, pens. Amber is kept for what is lit or selected."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QPalette
from PySide6.QtWidgets import QApplication

AMBER = "#D97B06"


@dataclass(frozen=True)
class Theme:
    """Colours of one theme."""

    name: str
    window: str
    panel: str
    canvas: str
    line: str
    text: str
    faint: str
    lit: str
    lit_soft: str
    good: str
    stale: str
    bad: str


PAPER = Theme(
    "paper",
    "#F3F1EC",
    "#FBFAF7",
    "#FFFFFF",
    "#CFC9BD",
    "#24221E",
    "#736C60",
    AMBER,
    "#FBE6C4",
    "#2F7D5B",
    "#9A5B00",
    "#B3261E",
)
NIGHT = Theme(
    "night",
    "#1D2024",
    "#25292E",
    "#15171A",
    "#3C424A",
    "#E6E3DC",
    "#9A968C",
    "#F0A030",
    "#4A3A1C",
    "#5FBF93",
    "#E0A84E",
    "#F28B82",
)
THEMES = {t.name: t for t in (PAPER, NIGHT)}
_ICONS = Path(__file__).parent


def apply_theme(app: QApplication, theme: Theme) -> None:
    """Dress the application."""
    app.setStyle("Fusion")
    font = QFont("DejaVu Sans")
    font.setPointSizeF(9.0)
    app.setFont(font)
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: theme.window,
        QPalette.ColorRole.WindowText: theme.text,
        QPalette.ColorRole.Base: theme.panel,
        QPalette.ColorRole.AlternateBase: theme.window,
        QPalette.ColorRole.Text: theme.text,
        QPalette.ColorRole.Button: theme.panel,
        QPalette.ColorRole.ButtonText: theme.text,
        QPalette.ColorRole.Highlight: theme.lit_soft,
        QPalette.ColorRole.HighlightedText: theme.text,
        QPalette.ColorRole.ToolTipBase: theme.panel,
        QPalette.ColorRole.ToolTipText: theme.text,
        QPalette.ColorRole.PlaceholderText: theme.faint,
        QPalette.ColorRole.Link: theme.lit,
        QPalette.ColorRole.Mid: theme.line,
        QPalette.ColorRole.Dark: theme.line,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText, QPalette.ColorRole.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(theme.faint))
    app.setPalette(palette)
    sheet = _sheet(theme)
    if app.styleSheet() != sheet:  # every widget that is there is dressed anew
        app.setStyleSheet(sheet)


def _sheet(t: Theme) -> str:
    lamp_on, lamp_off = (_ICONS / f"lamp_{s}_{t.name}.svg" for s in ("on", "off"))
    return f"""
    QToolTip {{ background: {t.panel}; color: {t.text}; border: 1px solid {t.line}; padding: 3px; }}
    QMainWindow::separator {{ background: {t.line}; width: 1px; height: 1px; }}
    QMenuBar {{ background: {t.window}; }} QMenuBar::item:selected, QMenu::item:selected {{ background: {t.lit_soft}; }}
    QMenu {{ background: {t.panel}; border: 1px solid {t.line}; }}
    QFrame#side, QFrame#rail, QFrame#strip {{ background: {t.window}; }}
    QFrame#paneHead {{ background: {t.window}; border-bottom: 1px solid {t.line}; }}
    QFrame#pane {{ border: 1px solid {t.line}; background: {t.canvas}; }}
    QFrame#pane[current="true"] {{ border: 1px solid {t.lit}; }}
    QLabel#heading {{ font-weight: 600; color: {t.text}; padding: 2px 0; }}
    QLabel#empty {{ color: {t.faint}; }}
    QLabel#group {{ color: {t.faint}; font-weight: 600; font-size: 11px; }}
    QLabel#faint {{ color: {t.faint}; }} QLabel#bad {{ color: {t.bad}; }} QLabel#good {{ color: {t.good}; }}
    QLabel#overlay {{ background: {_clear(t.panel)}; color: {t.text}; padding: 1px 4px; border-radius: 2px; }}
    QToolButton#railButton {{ border: none; border-left: 3px solid transparent; padding: 7px 2px; color: {t.faint}; }}
    QToolButton#railButton:checked {{ border-left: 3px solid {t.lit}; color: {t.text}; background: {t.panel}; }}
    QToolButton#railButton:hover {{ color: {t.text}; }}
    QPushButton {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 3px; padding: 4px 10px; }}
    QPushButton:hover {{ border-color: {t.faint}; }} QPushButton:focus {{ border: 1px solid {t.lit}; }}
    QPushButton:checked {{ border: 1px solid {t.lit}; background: {t.lit_soft}; }}
    QPushButton:disabled {{ color: {t.faint}; }}
    QPushButton#small {{ padding: 4px 0; }}
    QTabWidget::pane {{ border: 1px solid {t.line}; top: -1px; }}
    QTabBar::tab {{ background: {t.window}; border: 1px solid {t.line}; padding: 3px 7px; }}
    QTabBar::tab:selected {{ background: {t.panel}; border-bottom-color: {t.panel}; border-top: 2px solid {t.lit}; }}
    QPushButton#run {{ font-weight: 600; border: 1px solid {t.text}; }} QPushButton#run:disabled {{ border-color: {t.line}; }}
    QPushButton#step {{ text-align: left; border: 1px solid transparent; background: transparent; padding: 5px 6px; }}
    QPushButton#step:hover {{ background: {t.panel}; border-color: {t.line}; }} QPushButton#step:focus {{ border: 1px solid {t.lit}; }}
    QPushButton#link {{ border: none; background: transparent; color: {t.text}; text-align: left; padding: 2px 0; text-decoration: underline; }}
    QPushButton#origin, QPushButton#factsFold {{ border: 1px solid transparent; background: transparent; text-align: left; padding: 2px 0; }}
    QPushButton#origin:hover, QPushButton#factsFold:hover {{ background: {t.panel}; }}
    QPushButton#origin:focus, QPushButton#factsFold:focus {{ border: 1px solid {t.lit}; }}
    QPushButton#link:focus {{ border: 1px dotted {t.lit}; }}
    QLineEdit, QComboBox, QAbstractSpinBox, QPlainTextEdit {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 2px; padding: 2px 4px; min-height: 18px; }}
    QAbstractSpinBox QLineEdit {{ border: none; padding: 0; min-height: 0; background: transparent; }}
    QLineEdit:focus, QComboBox:focus, QAbstractSpinBox:focus {{ border: 1px solid {t.lit}; }}
    QComboBox::drop-down {{ border: none; width: 15px; }} QComboBox::down-arrow {{ image: url({(_ICONS / f"down_{t.name}.svg").as_posix()}); width: 9px; height: 9px; }}
    QTreeView, QTableView, QListView {{ background: {t.panel}; border: 1px solid {t.line}; alternate-background-color: {t.window}; }}
    QTreeView::item {{ padding: 1px 0; }}
    QTreeView::indicator {{ width: 16px; height: 16px; }}
    QTreeView::indicator:checked {{ image: url({lamp_on.as_posix()}); }} QTreeView::indicator:unchecked {{ image: url({lamp_off.as_posix()}); }}
    QHeaderView::section {{ background: {t.window}; border: none; border-right: 1px solid {t.line}; border-bottom: 1px solid {t.line}; padding: 3px 5px; }}
    QTableView {{ gridline-color: {t.line}; selection-background-color: {t.lit_soft}; selection-color: {t.text}; }}
    QProgressBar {{ border: 1px solid {t.line}; border-radius: 2px; background: {t.panel}; text-align: center; height: 14px; }}
    QProgressBar::chunk {{ background: {t.line}; }}
    QScrollArea {{ border: none; background: transparent; }} QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QSplitter::handle {{ background: {t.window}; }}
    """


def _clear(colour: str) -> str:
    c = QColor(colour)
    return f"rgba({c.red()},{c.green()},{c.blue()},215)"
