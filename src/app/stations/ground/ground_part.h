#pragma once

#include "app/stations/ground/patch_choice.h"
#include "app/widgets/number_field.h"
#include "app/widgets/panel.h"

#include <QPushButton>

namespace porb::app {

/// A part of Ground's panel: a column that shows the chosen patch while it is seen.
class GroundPart : public QWidget {
  public:
    GroundPart(Session& session, PatchChoice& choice, QWidget* parent)
        : QWidget(parent), session_(session), choice_(choice), column_(new QVBoxLayout(this)) {
        column_->setContentsMargins(0, 0, 0, 0);
        column_->setSpacing(6);
        connect(&choice, &PatchChoice::changed, this, [this] {
            if (isVisible()) refresh();
        });
    }
    virtual void refresh() = 0;

  protected:
    QVBoxLayout* column() const { return column_; }
    void head(const QString& text) { Panel::group_in(column_, text); }
    QLabel* hint(const QString& text, const char* name = nullptr) {
        auto* words = new QLabel(text);
        if (name) words->setObjectName(name);
        words->setProperty("role", "hint");
        words->setWordWrap(true);
        column_->addWidget(words);
        return words;
    }
    template <class Work>
    QPushButton* button(QBoxLayout* to, const QString& text, const char* name, const QString& tip,
                        Work work) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        connect(b, &QPushButton::clicked, this, work);
        to->addWidget(b);
        return b;
    }
    /// A number of the chosen patch. `set(patch, value)` changes it, one drag being one step of undo.
    template <class Set>
    NumberField* field(const QString& name, const char* object, Range range, double step, int digits,
                       const QString& unit, const QString& tip, Set set) {
        auto* f = new NumberField(range, step, digits, unit);
        f->setObjectName(object);
        f->setToolTip(tip);
        connect(f, &NumberField::edited, this, [this, name, object, set](double v) {
            choice_.change(
                name + " of a patch", [&](Patch& p) { set(p, v); }, object);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    }
    Session& session_;
    PatchChoice& choice_;

  private:
    QVBoxLayout* column_;
};

} // namespace porb::app
