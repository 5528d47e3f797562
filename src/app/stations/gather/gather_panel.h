#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"
#include "app/stations/gather/shot_list.h"
#include "app/stations/gather/take_tree.h"
#include "app/widgets/panel.h"

#include <QComboBox>
#include <QListWidget>
#include <QPushButton>
#include <QTableWidget>

namespace porb::app {

class NumberField;

/// Gather: takes as they are proposed, shots, what each file is, which camera it belongs to, whose sound is
/// kept.
class GatherPanel : public Panel {
    Q_OBJECT
  public:
    GatherPanel(Session& session, PictureService& service, QWidget* parent = nullptr);
    ~GatherPanel() override;
    /// Reads the headers of files and folders in the background, then proposes takes. A single take without
    /// anything odd becomes a shot at once; otherwise the proposal is shown first.
    void add_files(const QStringList& files);
    void choose_files();
    void choose_folder();
    void make_shots(); ///< of the takes that are ticked
    bool has_proposal() const { return proposal_->isVisible(); }

  signals:
    void align_wanted();

  private:
    void propose(std::vector<FoundFile> files, const QString& errors);
    void make_shots_of(const std::vector<Take>& takes, const std::vector<FoundFile>& files);
    void refresh() override;
    void show_facts();
    void relink();
    void remove_media();
    void make_rig(int circles);
    void make_proposal_page();
    void make_shots_part();
    void make_files_part();
    void make_cameras_part();

    Session& session_;
    QWidget *proposal_, *usual_;
    QVBoxLayout* usual_column_;
    TakeTree* takes_;
    QLabel *proposal_words_, *facts_;
    ShotList* shots_;
    QListWidget* files_;
    QPushButton *relink_, *remove_, *one_circle_, *two_circles_, *make_shots_, *align_;
    QTableWidget* cameras_;
    QComboBox* sound_;
    NumberField* rate_;
    BackgroundJob probes_; ///< of files that were added, in turn
};

} // namespace porb::app
