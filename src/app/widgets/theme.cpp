#include "app/widgets/theme.h"

#include <QApplication>
#include <QFile>
#include <QFontDatabase>
#include <QPainter>
#include <QPalette>
#include <QStyleFactory>
#include <QSvgRenderer>

#include <array>

namespace porb::app {

QColor colour::lens(int index) {
    static const std::array<QColor, 8> colours = {QColor(0xe6, 0xc0, 0x6a), QColor(0x72, 0xb4, 0xe0),
                                                  QColor(0xd9, 0x87, 0xb0), QColor(0x8c, 0xcf, 0x9e),
                                                  QColor(0xe8, 0x94, 0x6a), QColor(0xb3, 0xa3, 0xe6),
                                                  QColor(0xc9, 0xd8, 0x7a), QColor(0x86, 0xd3, 0xd3)};
    return colours[std::size_t(index) % colours.size()];
}

namespace {
const char* const kSheet = R"(
QWidget { color: #dcdcdc; font-size: 12px; }
QMainWindow, QDialog { background: #2a2a2a; }
QToolTip { background: #3a3a3a; color: #dcdcdc; border: 1px solid #585858; padding: 3px; }
QLabel[role="title"] { font-size: 15px; font-weight: 600; }
QLabel[role="group"] { color: #a2a2a2; font-size: 11px; font-weight: 600; padding-top: 6px; }
QLabel[role="hint"] { color: #a2a2a2; }
QLabel[role="figure"] { font-size: 20px; font-weight: 600; color: #bfdce4; }
QFrame[role="panel"] { background: #323232; border: none; }
QPushButton, QToolButton { background: #414141; border: 1px solid #505050; border-radius: 3px; padding: 4px 9px; }
QToolButton { padding: 3px 6px; } QToolButton[role="part"] { padding: 3px 2px; }
QPushButton:hover, QToolButton:hover { background: #4b4b4b; }
QPushButton:pressed, QToolButton:pressed { background: #383838; }
QPushButton:checked, QToolButton:checked { background: #bfdce4; color: #1d1d1d; border-color: #bfdce4; }
QPushButton:disabled, QToolButton:disabled { color: #757575; background: #363636; border-color: #404040; }
QPushButton:focus, QToolButton:focus { border-color: #bfdce4; }
QPushButton[role="main"] { background: #bfdce4; color: #1d1d1d; border-color: #bfdce4; font-weight: 600; }
QPushButton[role="main"]:hover { background: #d2e8ee; }
QPushButton[role="main"]:disabled { background: #3c4244; color: #7d8486; border-color: #3c4244; }
QLineEdit, QAbstractSpinBox, QComboBox, QPlainTextEdit { background: #242424; border: 1px solid #484848; border-radius: 3px; padding: 3px 6px; selection-background-color: #bfdce4; selection-color: #1d1d1d; }
QLineEdit:focus, QAbstractSpinBox:focus, QComboBox:focus { border-color: #bfdce4; }
QLineEdit:disabled, QAbstractSpinBox:disabled, QComboBox:disabled { color: #757575; background: #2c2c2c; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url(:/icons/chevron.svg); width: 10px; height: 10px; }
QComboBox QAbstractItemView { background: #2e2e2e; border: 1px solid #505050; selection-background-color: #4d5658; }
QTableView, QListView, QTreeView { background: #282828; alternate-background-color: #2d2d2d; border: 1px solid #404040; gridline-color: #3a3a3a; selection-background-color: #4d5658; selection-color: #ffffff; outline: none; }
QTableView#point_table QHeaderView::up-arrow { image: url(:/icons/chevron-up.svg); width: 9px; height: 9px; subcontrol-position: center right; right: 3px; }
QTableView#point_table QHeaderView::down-arrow { image: url(:/icons/chevron.svg); width: 9px; height: 9px; subcontrol-position: center right; right: 3px; }
QSpinBox::up-button, QSpinBox::down-button { width: 0; }
QHeaderView::section { background: #373737; color: #b4b4b4; border: none; border-right: 1px solid #2a2a2a; border-bottom: 1px solid #2a2a2a; padding: 3px 6px; }
QHeaderView::section:vertical { padding: 0 6px; }
QTableCornerButton::section { background: #373737; border: none; }
QCheckBox { spacing: 6px; }
QCheckBox::indicator, QTableView::indicator, QTreeView::indicator { width: 13px; height: 13px; border: 1px solid #757575; border-radius: 2px; background: #242424; }
QCheckBox::indicator:checked, QTableView::indicator:checked, QTreeView::indicator:checked { background: #bfdce4; border-color: #bfdce4; image: url(:/icons/tick.svg); }
QProgressBar { background: #242424; border: 1px solid #484848; border-radius: 3px; text-align: center; height: 16px; }
QProgressBar::chunk { background: #5c7a84; border-radius: 2px; }
QScrollBar:vertical { background: #2a2a2a; width: 10px; } QScrollBar:horizontal { background: #2a2a2a; height: 10px; }
QScrollBar::handle { background: #505050; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QListView::item { padding: 3px 2px; } QTreeView::item { height: 23px; } QTreeView::item:selected { background: #4d5658; color: #ffffff; }
QFrame[role="offer"] { background: #3a4144; border: 1px solid #566266; border-radius: 3px; }
QMenuBar { background: #2a2a2a; } QMenuBar::item { padding: 4px 9px; background: transparent; } QMenuBar::item:selected { background: #414141; }
QMenu { background: #323232; border: 1px solid #505050; } QMenu::item { padding: 4px 24px 4px 14px; } QMenu::item:selected { background: #4d5658; } QMenu::item:disabled { color: #757575; }
QMenu::separator { height: 1px; background: #484848; margin: 4px 8px; }
QSplitter::handle { background: #242424; }
QScrollArea { border: none; background: transparent; }
)";
} // namespace

void apply_theme(QApplication& application) {
    for (const char* file : {":/fonts/Inter-Regular.otf", ":/fonts/Inter-SemiBold.otf"})
        QFontDatabase::addApplicationFont(file);
    QFont font("Inter");
    font.setPixelSize(12);
    application.setFont(font);
    application.setStyle(QStyleFactory::create("Fusion"));
    QPalette p;
    p.setColor(QPalette::Window, colour::window);
    p.setColor(QPalette::WindowText, colour::text);
    p.setColor(QPalette::Base, colour::field);
    p.setColor(QPalette::AlternateBase, colour::panel);
    p.setColor(QPalette::Text, colour::text);
    p.setColor(QPalette::Button, colour::panel);
    p.setColor(QPalette::ButtonText, colour::text);
    p.setColor(QPalette::BrightText, colour::text);
    p.setColor(QPalette::Highlight, colour::accent);
    p.setColor(QPalette::HighlightedText, colour::surround);
    p.setColor(QPalette::PlaceholderText, colour::faint);
    p.setColor(QPalette::Link, colour::accent);
    application.setPalette(p);
    application.setStyleSheet(kSheet);
}

QIcon icon(const QString& name) {
    QFile file(":/icons/" + name + ".svg");
    if (!file.open(QIODevice::ReadOnly)) return {};
    const QByteArray source = file.readAll();
    const auto drawn = [&](const QColor& c) {
        QByteArray tinted = source;
        QSvgRenderer renderer(tinted.replace("currentColor", c.name().toUtf8()));
        QPixmap pixmap(48, 48);
        pixmap.fill(Qt::transparent);
        QPainter painter(&pixmap);
        renderer.render(&painter);
        return pixmap;
    };
    QIcon result;
    result.addPixmap(drawn(colour::text), QIcon::Normal, QIcon::Off);
    result.addPixmap(drawn(colour::surround), QIcon::Normal, QIcon::On);
    result.addPixmap(drawn(colour::faint), QIcon::Disabled);
    return result;
}

QIcon signal_icon(Signal signal) {
    QPixmap pixmap(32, 32);
    pixmap.fill(Qt::transparent);
    QPainter p(&pixmap);
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(Qt::NoPen);
    if (signal == Signal::good) {
        p.setBrush(colour::good);
        p.drawEllipse(6, 6, 20, 20);
    } else if (signal == Signal::care) {
        p.setBrush(colour::care);
        p.drawPolygon(QPolygon({{16, 4}, {29, 27}, {3, 27}}));
    } else {
        p.setBrush(colour::stop);
        p.drawRect(6, 6, 20, 20);
    }
    return QIcon(pixmap);
}

} // namespace porb::app
