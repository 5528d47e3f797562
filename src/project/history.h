#pragma once

#include "project/project.h"

#include <deque>

namespace porb {

/// The values a project has had. Undo gives back the previous value; nothing is recomputed.
class History {
  public:
    explicit History(Project first);

    const ProjectPtr& now() const { return steps_[at_].value; }
    /// Takes a new value with what was done in a few words ("Set yaw of B"). An edit with the same label
    /// and non-empty `merge_key` as the one before becomes one step with it, so that a drag is undone at
    /// once.
    void apply(Project value, std::string label, const std::string& merge_key = {});
    /// The next edit starts a step of its own whatever its key (a drag was let go).
    void end_merge() { steps_[at_].merge_key.clear(); }

    bool can_undo() const { return at_ > 0; }
    bool can_redo() const { return at_ + 1 < steps_.size(); }
    std::string undo_label() const { return can_undo() ? steps_[at_].label : std::string(); }
    std::string redo_label() const { return can_redo() ? steps_[at_ + 1].label : std::string(); }
    /// The value before the last step, or the present one when there is none.
    const ProjectPtr& before() const { return steps_[at_ > 0 ? at_ - 1 : 0].value; }
    void undo();
    void redo();

  private:
    struct Step {
        ProjectPtr value;
        std::string label, merge_key;
    };
    std::deque<Step> steps_;
    std::size_t at_ = 0;
};

} // namespace porb
