#pragma once

#include "base/progress.h"
#include "grade/grader.h"
#include "media/library.h"
#include "project/span.h"
#include "stitch/denoise.h"
#include "stitch/distances.h"
#include "stitch/light_bands.h"
#include "stitch/plan.h"
#include "stitch/tone.h"

#include <mutex>

namespace porb {

/// Makes pictures of shots. Holds what is slow and does not depend on the frame (plans, by value, within a
/// bound) and the library of sources. Safe to use from several threads.
class Composer {
  public:
    explicit Composer(std::shared_ptr<MediaLibrary> library, std::size_t plan_cache_bytes = 256u << 20);

    /// The one way to a picture: shot `shot` of `project` at shot time `time` as `view` shows it. Where no
    /// lens sees, alpha is 0. Cameras without media or outside their source's duration are left out. Throws
    /// Error (which source, how to mend it) when one cannot be read or has another size than its lens.
    /// A raised `cancel` ends it between two sources, distances or bands of rows, by Cancelled.
    Picture compose(const Project& project, const Shot& shot, Seconds time, const View& view,
                    const Cancel& cancel = {});

    /// compose() in its two halves, so that reading the next frame and blending this one can overlap.
    struct Gathered {
        std::shared_ptr<const BlendPlan> plan;
        std::vector<Picture> sources; ///< of plan->cameras
        std::vector<CameraTone> tones;
        SphereGrid distances; ///< empty: everything at the agree distance
        std::vector<SphereGrid> lights;
        std::shared_ptr<const Grader> grader; ///< or none
        Filter filter = Filter::cubic;
    };
    Gathered gather(const Project& project, const Shot& shot, Seconds time, const View& view,
                    const Cancel& cancel = {});
    Picture blend(const Gathered& gathered, const Cancel& cancel = {});

    std::shared_ptr<const BlendPlan> plan_for(const PlanKey& key);
    /// How far away things near seams are at that moment (they do not depend on the view but for its eye);
    /// empty while the shot's flow is off.
    SphereGrid distances(const Project& project, const Shot& shot, Seconds time, Eye eye = Eye::mono);
    /// How far they are trusted at that moment (SeamZones::confidence); empty while the shot's flow is off.
    SphereGrid confidence(const Project& project, const Shot& shot, Seconds time, Eye eye = Eye::mono,
                          const Cancel& cancel = {});
    /// What cameras show at a moment, for whoever looks at sources beside each other: pictures halved as
    /// often as is asked, and their tones. Nothing when one of them is outside its source.
    struct Seen {
        std::vector<Picture> sources;
        std::vector<CameraTone> tones;
    };
    std::optional<Seen> look(const Project& project, const Shot& shot, Seconds time,
                             const std::vector<BlendPlan::PlanCamera>& cameras);
    MediaLibrary& library() { return *library_; }

  private:
    struct Kept {
        PlanKey key;
        std::shared_ptr<const BlendPlan> plan;
    };
    std::shared_ptr<MediaLibrary> library_;
    std::mutex mutex_;
    std::vector<Kept> kept_; ///< oldest use first
    std::size_t limit_, bytes_ = 0;
    /// What is slow to make and does not depend on the view: made once, however many ask, and kept by its
    /// key, the oldest use first.
    template <class Made>
    class Few {
      public:
        template <class Make>
        std::shared_ptr<const Made> get(const PlanKey& key, double setting, const Make& make);

      private:
        struct Entry {
            PlanKey key;
            double setting;
            std::shared_ptr<const Made> made;
        };
        std::mutex mutex_;
        std::vector<Entry> kept_;
    };
    /// Pictures and tones of these cameras; false, and `key` without them, when some are outside their
    /// sources.
    bool read(const Project& project, const Shot& shot, Seconds time,
              const std::vector<BlendPlan::PlanCamera>& cameras, PlanKey& key, std::vector<Picture>& sources,
              std::vector<CameraTone>& tones, const Cancel& cancel);
    /// For each camera of the shot the moment at which its frame on show was taken, shot time; nothing when
    /// that is `time` for all, or makes no difference.
    std::vector<Seconds> taken_at(const Project& project, const Shot& shot, Seconds time);
    SphereGrid distances_at(const Project& project, const Shot& shot, Seconds time, PlanKey& key,
                            const Cancel& cancel, bool confidence = false);
    /// What the distances of a moment follow from. They are kept while one looks about at it, and what was
    /// matched for other moments thereabouts.
    struct Moment {
        Seconds time;
        FlowSettings flow; ///< at that moment; of what was matched its smoothness alone
        MatchSettings match;
        Denoise denoise;
        FrameRate rate;
        std::vector<MediaRef> media;
        std::vector<ShotCamera> cameras;
        PlanKey zones;
        bool operator==(const Moment&) const = default;
    };
    std::mutex moments_mutex_;
    std::vector<std::pair<Moment, SeamZones::GlimpsePtr>>
        steady_; ///< of moments that count for others, oldest first
    std::vector<std::pair<Moment, SeamZones::GlimpsePtr>> passing_; ///< of other frames
    std::vector<std::pair<Moment, SphereGrid>> fields_;
    std::vector<SphereGrid> lights_at(const Project& project, const Shot& shot, Seconds time, PlanKey& key,
                                      const SphereGrid& distances, const Cancel& cancel);
    std::shared_ptr<const Grader> grader_for(const Grade& grade);
    Cleaner cleaner_;
    std::mutex grader_mutex_;
    Grade graded_;
    std::shared_ptr<const Grader> grader_;
    Few<SeamZones> zones_;
    Few<LightBands> bands_;
};

/// Left above or beside right for stereo views, else the one picture: what a deliverable of that layout
/// shows.
Picture compose_layout(Composer& composer, const Project& project, const Shot& shot, Seconds time, View view,
                       StereoLayout layout);

} // namespace porb
