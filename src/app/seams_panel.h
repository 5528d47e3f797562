#pragma once

#include "app/panel.h"
#include "app/session.h"

#include <QCheckBox>
#include <QTableWidget>

namespace porb::app {

class NumberField;

/// Seams: how much of each lens is used and how softly it ends, for the chosen cameras together.
class SeamsPanel : public Panel {
    Q_OBJECT
  public:
    explicit SeamsPanel(Session& session, QWidget* parent = nullptr);
    void toggle_flow();

  private:
    void refresh() override;
    std::vector<std::size_t> chosen() const; ///< rows; all when none is selected
    void change(const QString& what, const QString& key, const std::function<void(ShotCamera&)>& set);
    Session& session_;
    QTableWidget* table_;
    void change_flow(const QString& label, const std::function<void(FlowSettings&)>& set,
                     const QString& key = {});
    NumberField *reach_, *feather_, *strength_, *zone_, *nearest_;
    QCheckBox* flow_;
    QLabel* for_;
};

} // namespace porb::app
