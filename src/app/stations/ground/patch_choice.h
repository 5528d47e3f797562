#pragma once

#include "app/session/session.h"
#include "stitch/patches/placement.h"

namespace porb::app {

/// Which of the shot's patches is worked on.
class PatchChoice : public QObject {
    Q_OBJECT
  public:
    explicit PatchChoice(Session& session, QObject* parent = nullptr);
    int index() const { return index_; } ///< -1: none
    const Patch* patch() const;
    void choose(int index);
    /// Changes it, as one step of undo; the same `merge_key` again continues that step.
    bool change(const QString& label, const std::function<void(Patch&)>& work, const QString& merge_key = {});
    /// Adds one on top, and chooses it.
    void add(const QString& label, Patch patch);
    void remove();
    void move(int up); ///< by so many places towards the top
    /// Where it lies at the playhead, seen from the rig's centre; nothing without one.
    std::optional<PatchPlacement> placement() const;
    QString free_name(const QString& stem) const;

  signals:
    void changed(); ///< another one, or it changed

  private:
    Session& session_;
    int index_ = -1;
    std::string shot_;
};

} // namespace porb::app
