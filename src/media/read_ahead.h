#pragma once

#include "media/library.h"

#include <condition_variable>
#include <set>
#include <thread>
#include <vector>

namespace porb {

/// Has frames decoded, on threads of its own, before they are asked for: while one source waits for its file
/// another decodes, and pictures are made meanwhile. What was read lies in the library's cache. Safe to use
/// from any thread.
class ReadAhead {
  public:
    explicit ReadAhead(std::shared_ptr<MediaLibrary> library, int threads = 2);
    ~ReadAhead();
    ReadAhead(const ReadAhead&) = delete;
    ReadAhead& operator=(const ReadAhead&) = delete;

    /// Frames of one source, the first wanted first.
    struct Run {
        MediaRef ref;
        int level = 0;
        Footage footage = Footage::originals;
        std::vector<Seconds> times;
        bool back = false; ///< what was shown before these (MediaLibrary::go_back), not they themselves
    };
    /// In place of what was wanted before: the first frame of every run, then the second, and so on. What
    /// cannot be read is left to whoever asks for it.
    void want(std::vector<Run> runs);
    void stop() { want({}); }

  private:
    void work();

    std::shared_ptr<MediaLibrary> library_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::vector<Run> runs_;
    std::vector<std::size_t> next_; ///< of each run
    std::vector<bool> busy_;        ///< each run is read by one thread at a time: its source has one decoder
    std::uint64_t generation_ = 0;
    bool end_ = false;
    std::vector<std::thread> threads_;
};

} // namespace porb
