#pragma once

#include "app/session/render_queue.h"
#include "app/session/session.h"
#include "app/widgets/panel.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLineEdit>
#include <QListWidget>
#include <QProgressBar>
#include <QPushButton>

namespace porb::app {

class NumberField;

/// Master: what is to be rendered, checked before it starts, and the queue with its progress.
class MasterPanel : public Panel {
    Q_OBJECT
  public:
    MasterPanel(Session& session, RenderQueue& queue, QWidget* parent = nullptr);
    void add_deliverable(const std::string& preset);
    void render_selected();

  private:
    const Deliverable* selected() const;
    void change(const QString& what, const std::function<void(Deliverable&)>& set, const QString& key = {});
    void refresh() override;
    void refresh_queue();
    void choose_file();

    Session& session_;
    RenderQueue& queue_;
    QListWidget* list_;
    QComboBox *preset_, *mapping_, *stereo_, *codec_, *depth_;
    NumberField *width_, *quality_, *bit_rate_;
    QCheckBox* sound_;
    QComboBox* distances_;
    QLineEdit* file_;
    QLabel *size_, *checks_, *state_;
    QProgressBar* progress_;
    QPushButton *add_, *remove_, *render_, *all_, *stop_;
    std::string selected_id_;
};

} // namespace porb::app
