#pragma once

#include "base/rational.h"

#include <QTableWidget>

#include <vector>

class QLabel;
class QPushButton;

namespace porb::app {

/// The list of what a shot has several of, one of them selected: switched on and off, named by editing, with
/// a word about each. Tells what a person does, shows what it is given.
class NamedList : public QTableWidget {
    Q_OBJECT
  public:
    struct Row {
        QString name;
        bool on = true;
        QString word; ///< what it does, or where it comes from
        QColor colour;
    };
    /// The headings of names and words.
    NamedList(const QString& what, const QString& about, QWidget* parent = nullptr);
    void show_rows(const std::vector<Row>& rows, int selected); ///< says nothing of it; -1: none

  signals:
    void selected(int row); ///< -1: none
    void switched(int row, bool on);
    void renamed(int row, const QString& name);
};

/// How many keys over time something has, and the button that sets one at the playhead or takes it away.
/// `name` begins the names of its parts.
class KeysRow : public QWidget {
    Q_OBJECT
  public:
    KeysRow(const QString& name, const QString& tip, QWidget* parent = nullptr);
    template <class Key>
    void show_keys(const std::vector<Key>& keys, Seconds playhead) {
        bool here = false;
        for (const Key& k : keys) here = here || k.time == playhead;
        show_count(int(keys.size()), here);
    }
    void show_none(const QString& words); ///< there is nothing that could have keys

  signals:
    void toggle_wanted();

  private:
    void show_count(int keys, bool one_here);
    QLabel* words_;
    QPushButton* button_;
};

} // namespace porb::app
