#pragma once

#include "app/panel.h"
#include "app/session.h"

#include <QComboBox>
#include <QListWidget>
#include <QPushButton>
#include <QTableWidget>

#include <thread>

namespace porb::app {

class NumberField;

/// Gather: what each file is, which camera it belongs to, whose sound is kept; new files by dialog or drop.
class GatherPanel : public Panel {
    Q_OBJECT
  public:
    explicit GatherPanel(Session& session, QWidget* parent = nullptr);
    ~GatherPanel() override;
    /// Reads the files' headers in the background, then adds them; an empty project gets a rig that fits
    /// them.
    void add_files(const QStringList& files);
    void choose_files();

  private:
    struct Probed {
        MediaRef ref;
        std::optional<MediaInfo> info;
        QString error;
    };
    void take(const std::vector<Probed>& probed);
    void refresh() override;
    void show_facts();
    void relink();
    void remove_media();
    void make_rig(int circles);

    Session& session_;
    QListWidget* files_;
    QLabel* facts_;
    QPushButton *relink_, *remove_, *one_circle_, *two_circles_;
    QTableWidget* cameras_;
    QComboBox* sound_;
    NumberField* rate_;
    std::vector<std::jthread> probes_;
};

/// Whole names of files, "a.0001.exr, a.0002.exr, ..." folded into their pattern.
std::vector<std::filesystem::path> folded_sequences(const QStringList& files);

} // namespace porb::app
