#pragma once

#include "app/picture/picture_service.h"
#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QListWidget>
#include <QPixmap>

#include <map>

namespace porb::app {

/// The project's shots with a thumbnail each; a click works on one, F2 renames it, dragging orders them.
class ShotList : public QListWidget {
    Q_OBJECT
  public:
    ShotList(Session& session, PictureService& service, QWidget* parent = nullptr);
    ~ShotList() override;
    void refresh();
    void remove_current();

  private:
    void wish_thumbnail(const Shot& shot);
    void start_next();
    struct Thumbnail {
        PlanKey key;
        std::vector<std::string> media;
        Seconds time;
        QPixmap picture;
        bool operator==(const Thumbnail& o) const {
            return key == o.key && media == o.media && time == o.time;
        }
    };
    Session& session_;
    PictureService& service_;
    std::map<std::string, Thumbnail> known_;
    std::vector<std::string> wished_;
    BackgroundJob job_;
};

} // namespace porb::app
