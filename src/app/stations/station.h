// stations: the steps of the work, one after the other along the rail. The window knows them through this
// alone: a further station is a folder and a line in stations.cpp.
#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/timeline.h"
#include "app/session/render_queue.h"

#include <QKeySequence>

#include <memory>

namespace porb::app {

/// What of the window a station may use. All of it outlives the station's widgets.
struct Workplace {
    Session& session;
    PictureService& service;
    PictureArea& picture;
    Timeline& timeline;
    RenderQueue& queue;
};

/// Something that can be done, as menus, keys and the palette offer it.
struct Command {
    enum class Goes {
        there, ///< the window goes to the command's station first
        stays, ///< it is done from wherever one is
    };
    QString text;
    QKeySequence key;
    std::function<void()> work;
    Goes goes = Goes::there;
    QString also{}; ///< other words of the trade that the palette finds it by
    QString menu{}; ///< of the window's; empty: the station's own
};

/// How far a station is: 0 not begun, 1 done; the one figure below its name; whether that wants care.
struct StationState {
    double progress = 0;
    QString figure;
    bool care = false;
};

/// One step of the work. Widgets that it gives away belong to the window.
class Station {
  public:
    virtual ~Station() = default;
    virtual QString name() const = 0;
    /// The name as settings and the command line write it.
    QString id() const { return name().toLower(); }
    virtual QWidget* panel() = 0; ///< at the window's side while one is here
    virtual std::vector<Command> commands() { return {}; }
    virtual StationState state() = 0;

    virtual QWidget* lane() { return nullptr; }  ///< under the ruler while one is here
    virtual QWidget* strip() { return nullptr; } ///< between picture and timeline; shows and hides itself
    /// A view that is this station's own: what stands in place of the picture. Chosen on arrival.
    struct Page {
        ViewMode mode;
        QWidget* widget;
    };
    virtual std::optional<Page> page() { return std::nullopt; }

    virtual void arrive() {}
    virtual void leave() {}
    /// Files that were dropped on the window; false: they are for another station.
    virtual bool take_files(const QStringList&) { return false; }
};

/// All of them, in the order of the work.
std::vector<std::unique_ptr<Station>> make_stations(const Workplace& place);

} // namespace porb::app
