#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"
#include "app/widgets/panel.h"
#include "match/agree.h"

#include <QCheckBox>

class QButtonGroup;
class QComboBox;
class QPushButton;
class QSpinBox;
class QStackedWidget;
class QTableWidget;

namespace porb::app {

class GradePart;
class NumberField;
class SourcesPart;

/// How much neighbours differ in their overlaps, pair by pair: as shot and as it is now, EV.
class AgreementPlot : public QWidget {
  public:
    explicit AgreementPlot(QWidget* parent = nullptr);
    void show(const std::vector<PairAgreement>& pairs);
    QSize sizeHint() const override;

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<PairAgreement> pairs_;
};

/// Match: colours of all cameras brought together from what overlapping lenses see alike, and trimmed by
/// hand; how the finished picture is to look; how sources are read.
class MatchPanel : public Panel {
    Q_OBJECT
  public:
    explicit MatchPanel(Session& session, QWidget* parent = nullptr);
    void match_now();
    void toggle_as_shot();
    BackgroundJob& job() { return job_; }
    enum class Part { cameras, grade, sources };
    void show_part(Part part);
    GradePart& grade() { return *grade_; }

  private:
    void refresh() override;
    void make_cameras(QVBoxLayout* column);
    void show_agreement(const Shot& shot);
    void show_cameras(const Shot& shot);
    std::vector<std::size_t> chosen() const; ///< rows; all when none is selected
    void set(const QString& label, const std::function<void(MatchSettings&)>& work);
    void trim(const QString& what, double CameraColour::*value, double ev);

    Session& session_;
    QButtonGroup* parts_;
    QStackedWidget* pages_;
    GradePart* grade_;
    SourcesPart* sources_;
    BackgroundJob job_;
    std::vector<ColourMoment> moments_; ///< compared last,
    std::string compared_;              ///< of this shot
    Rig compared_rig_;                  ///< under this rig
    QLabel *figure_, *as_shot_, *for_;
    QPushButton* match_;
    QCheckBox *on_, *vignetting_, *over_time_;
    QComboBox* reference_;
    QSpinBox* samples_;
    QTableWidget* table_;
    NumberField *exposure_, *warmth_, *tint_;
    AgreementPlot* plot_;
};

} // namespace porb::app
