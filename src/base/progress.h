#pragma once

#include "base/error.h"

#include <atomic>
#include <functional>
#include <memory>

namespace porb {

/// A flag shared between whoever asked for long work and whoever does it. Copies share the flag.
class Cancel {
  public:
    void raise() const { flag_->store(true, std::memory_order_relaxed); }
    bool raised() const { return flag_->load(std::memory_order_relaxed); }
    /// Throws Cancelled when raised; called between the steps of long work.
    void check() const {
        if (raised()) throw Cancelled();
    }

  private:
    std::shared_ptr<std::atomic<bool>> flag_ = std::make_shared<std::atomic<bool>>(false);
};

/// Told from the thread that works: how much of it is done, 0 to 1.
using TellShare = std::function<void(double share)>;

} // namespace porb
