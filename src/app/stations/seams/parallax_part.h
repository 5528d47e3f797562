#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QWidget>

class QCheckBox;
class QLabel;
class QPushButton;
class QTableWidget;

namespace porb::app {

class NumberField;
class PictureArea;

/// The part of Seams that says where neighbours meet and how parallax is closed there: for all seams, or for
/// the one chosen in its table.
class ParallaxPart : public QWidget {
    Q_OBJECT
  public:
    ParallaxPart(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    BackgroundJob& job() { return job_; }
    void refresh();
    void find_lines_now();
    void toggle_flow();
    void toggle_everywhere();
    void toggle_fine_edges();

  private:
    struct Pair {
        std::string a, b;
    };
    void change(const QString& label, const std::function<void(FlowSettings&)>& set, const QString& key = {});
    void change_value(const QString& label, double FlowKey::*value, double to);
    void toggle_key();
    void find_distance();
    std::optional<Pair> chosen() const;
    static QString told(const Pair& pair);
    /// The chosen seam's own settings, made from the shot's when it had none.
    static SeamFlow& own(FlowSettings& flow, const Pair& pair);

    Session& session_;
    BackgroundJob job_;
    std::vector<Pair> pairs_;
    std::optional<Shot> paired_; ///< that they were worked out for
    QLabel *lines_, *for_;
    QCheckBox *everywhere_, *fine_edges_, *follow_, *flow_, *trust_;
    QPushButton *find_, *forget_, *key_, *distance_, *as_shot_;
    QTableWidget* table_;
    NumberField *ease_, *strength_, *zone_, *smoothness_, *nearest_, *agree_;
};

} // namespace porb::app
