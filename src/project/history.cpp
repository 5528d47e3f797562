#include "project/history.h"

namespace porb {

namespace {
constexpr std::size_t kMostSteps = 500;
}

History::History(Project first) {
    steps_.push_back({std::make_shared<const Project>(std::move(first)), {}, {}});
}

void History::apply(Project value, std::string label, const std::string& merge_key) {
    if (value == *now()) return;
    auto shared = std::make_shared<const Project>(std::move(value));
    const bool merges = !merge_key.empty() && at_ > 0 && at_ + 1 == steps_.size() &&
                        steps_[at_].merge_key == merge_key && steps_[at_].label == label;
    if (merges) {
        steps_[at_].value = std::move(shared);
        return;
    }
    steps_.erase(steps_.begin() + std::ptrdiff_t(at_) + 1, steps_.end());
    steps_.push_back({std::move(shared), std::move(label), merge_key});
    if (steps_.size() > kMostSteps) steps_.pop_front();
    at_ = steps_.size() - 1;
}

void History::undo() {
    if (can_undo()) --at_;
    end_merge();
}

void History::redo() {
    if (can_redo()) ++at_;
    end_merge();
}

} // namespace porb
