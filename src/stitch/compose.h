#pragma once

#include "base/cache.h"
#include "base/progress.h"
#include "grade/grader.h"
#include "media/library.h"
#include "project/span.h"
#include "stitch/blend/light_bands.h"
#include "stitch/distances/distances.h"
#include "stitch/patches/drawing.h"
#include "stitch/plan/plan.h"
#include "stitch/source/denoise.h"
#include "stitch/source/tone.h"

#include <mutex>

namespace porb {

/// Makes pictures of shots. Keeps what is slow to make (plans, distances, bands of light) by value, within
/// the bound of its library's caches. Safe to use from several threads.
class Composer {
  public:
    explicit Composer(std::shared_ptr<MediaLibrary> library);

    /// The one way to a picture: shot `shot` of `project` at shot time `time` as `view` shows it. Where no
    /// lens sees, alpha is 0. Cameras without media or outside their source's duration are left out. Throws
    /// Error (which source, how to mend it) when one cannot be read or has another size than its lens.
    /// A raised `cancel` ends it between two sources, distances or bands of rows, by Cancelled.
    Picture compose(const Project& project, const Shot& shot, Seconds time, const View& view,
                    const Cancel& cancel = {});

    /// The same before the grade: what patches lie in, and what they are painted from.
    Picture compose_ungraded(const Project& project, const Shot& shot, Seconds time, const View& view,
                             const Cancel& cancel = {});

    /// The shot's patches over nothing, graded by nothing.
    Picture patches_alone(const Project& project, const Shot& shot, Seconds time, const View& view,
                          const Cancel& cancel = {});

    /// compose() in its two halves, so that reading the next frame and blending this one can overlap.
    struct Gathered {
        std::shared_ptr<const BlendPlan> plan;
        std::vector<SourcePicture> sources; ///< of plan->cameras
        std::vector<CameraTone> tones;
        std::shared_ptr<const DistanceField> distances; ///< none: everything at the agree distance
        std::vector<SphereGrid> lights;
        std::vector<DrawnPatch> patches;      ///< the first lies lowest
        std::shared_ptr<const Grader> grader; ///< or none
        Filter filter = Filter::cubic;
        View view;             ///< whose picture it becomes
        double border_deg = 0; ///< over which a half sphere fades at its rim
    };
    Gathered gather(const Project& project, const Shot& shot, Seconds time, const View& view,
                    const Cancel& cancel = {});
    Picture blend(const Gathered& gathered, const Cancel& cancel = {});
    /// The same into planes of the plan's size as encoders take them, without a whole picture between.
    void blend(const Gathered& gathered, const YuvPlanes<std::uint8_t>& out, const Cancel& cancel = {});

    /// What a picture samples: sources, how often they are halved, and when, for whoever reads ahead. Nothing
    /// of what distances are found from.
    struct SourceRead {
        MediaRef ref;
        int level = 0;
        std::size_t camera = 0; ///< of the shot's
    };
    std::vector<SourceRead> reads_of(const Project& project, const Shot& shot, Seconds time,
                                     const View& view);

    std::shared_ptr<const BlendPlan> plan_for(const PlanKey& key);
    /// How far away things near seams are at that moment (they do not depend on the view but for its eye);
    /// empty while the shot's flow is off. Of an eye drawn from distances: along its rays, by where they
    /// look.
    SphereGrid distances(const Project& project, const Shot& shot, Seconds time, Eye eye = Eye::mono,
                         const Cancel& cancel = {});
    /// How far they are trusted at that moment (SeamZones::confidence); empty while the shot's flow is off.
    /// Kept by moment, as distances are.
    SphereGrid confidence(const Project& project, const Shot& shot, Seconds time, Eye eye = Eye::mono,
                          const Cancel& cancel = {});
    /// What cameras show at a moment, for whoever looks at sources beside each other: pictures halved as
    /// often as is asked, and their tones. Nothing when one of them is outside its source.
    struct SourceFrames {
        std::vector<Picture> sources;
        std::vector<CameraTone> tones;
    };
    std::optional<SourceFrames> source_frames(const Project& project, const Shot& shot, Seconds time,
                                              const std::vector<BlendPlan::PlanCamera>& cameras);
    MediaLibrary& library() { return *library_; }

  private:
    /// What was read for one moment: pictures and tones, in the order of the cameras that were asked for.
    struct Reading {
        SourceFrames frames;
        std::optional<std::size_t> ended; ///< of the shot's cameras: outside its source, and nothing was seen
    };
    /// Each picture is `picture_of(medium, source time, level)` unless it is cleaned of noise; one of a
    /// camera that shows nothing ends it.
    template <class Pixels, class PictureOf>
    std::optional<std::size_t> read_each(const Project& project, const Shot& shot, Seconds time,
                                         const std::vector<BlendPlan::PlanCamera>& cameras,
                                         const Cancel& cancel, const PictureOf& picture_of,
                                         std::vector<Pixels>& sources, std::vector<CameraTone>& tones);
    [[noreturn]] void tell_ended(const Project& project, const Shot& shot, Seconds time, std::size_t camera);
    Reading read(const Project& project, const Shot& shot, Seconds time,
                 const std::vector<BlendPlan::PlanCamera>& cameras, Footage footage, const Cancel& cancel);
    /// The same as files hold it, where nothing denoises: what is sampled or matched.
    struct FileReading {
        std::vector<SourcePicture> sources;
        std::vector<CameraTone> tones;
        std::optional<std::size_t> ended;
    };
    FileReading read_files(const Project& project, const Shot& shot, Seconds time,
                           const std::vector<BlendPlan::PlanCamera>& cameras, Footage footage,
                           const Cancel& cancel);
    /// The same as read() where all of them run.
    SourceFrames read_running(const Project& project, const Shot& shot, Seconds time,
                              const std::vector<BlendPlan::PlanCamera>& cameras, Footage footage,
                              const Cancel& cancel);
    /// The key of a moment, in which those cameras run whose sources show something then.
    PlanKey running_key(const Project& project, const Shot& shot, Seconds time, const View& view,
                        const Cancel& cancel);
    /// For each camera of the shot the moment at which its frame on show was taken, shot time; nothing when
    /// that is `time` for all, or makes no difference.
    std::vector<Seconds> taken_at(const Project& project, const Shot& shot, Seconds time);

    /// What distances follow from, beside the zones: pictures at a moment and how they are matched.
    struct MomentKey {
        struct Source {
            MediaRef ref;
            Seconds offset;
            double drift_ppm;
            CameraColour colour;
            bool operator==(const Source&) const = default;
        };
        Seconds time;
        FlowSettings flow; ///< at that moment; of what was matched its smoothness alone
        MatchSettings match;
        Denoise denoise;
        FrameRate rate;
        std::vector<Source> sources; ///< by camera
        bool proxies = false;        ///< may have been read
        PlanKey zones;
        SeamZones::Pairs pairs; ///< that are matched
        std::vector<DistanceArea> areas;
        bool operator==(const MomentKey&) const = default;
    };
    struct Moments {
        std::shared_ptr<const SeamZones> zones;
        std::vector<SeamZones::Weighed> weighed; ///< its support frames in order of time, then itself
    };
    MomentKey moment_key(const Project& project, const Shot& shot, Seconds time, const PlanKey& key) const;
    Moments moments(const Project& project, const Shot& shot, const MomentKey& field, const PlanKey& key,
                    const Cancel& cancel);
    std::shared_ptr<const SeamZones> zones_of(const PlanKey& zones);
    std::shared_ptr<const DistanceField> distances_from_centre(const Project& project, const Shot& shot,
                                                               const MomentKey& moment, const PlanKey& key,
                                                               const Cancel& cancel);
    /// Those of the key's eye.
    std::shared_ptr<const DistanceField> distances_at(const Project& project, const Shot& shot, Seconds time,
                                                      const PlanKey& key, const Cancel& cancel);
    std::vector<SphereGrid> lights_at(const Project& project, const Shot& shot, Seconds time,
                                      const PlanKey& key, const SphereGrid& distances, const Cancel& cancel);
    std::shared_ptr<const Grader> grader_for(const Grade& grade);
    /// What lies below the patches of a moment that is looked at again and again while they are painted.
    struct BaseKey {
        Shot shot; ///< without patches and grade
        std::vector<Media> media;
        Seconds time;
        View view;
        bool operator==(const BaseKey&) const = default;
    };
    std::optional<Picture> base_again(const BaseKey& key, const Project& project, const Cancel& cancel);
    std::vector<DrawnPatch> patches_at(const Project& project, const Shot& shot, Seconds time,
                                       const View& view, const Cancel& cancel);
    void blend_band(const Gathered& gathered, int begin, int end, Picture& out) const;
    /// Patches, grade and rim, of rows that were blended.
    void finish(const Gathered& gathered, int begin, int end, Picture& out) const;

    std::shared_ptr<MediaLibrary> library_;
    Cleaner cleaner_;
    PatchDrawer patch_drawer_;
    Cache<PlanKey, std::shared_ptr<const BlendPlan>> plans_;
    Cache<PlanKey, std::shared_ptr<const SeamZones>> zones_;
    Cache<MomentKey, SeamZones::MatchedMomentPtr>
        matched_moments_; ///< what was matched at moments, for those beside them
    Cache<MomentKey, std::shared_ptr<const DistanceField>> fields_;
    struct EyeFieldKey {
        MomentKey moment;
        RigEyeRays eye;
        std::optional<SphereBlocks> blocks;
        bool operator==(const EyeFieldKey&) const = default;
    };
    Cache<EyeFieldKey, std::shared_ptr<const DistanceField>> eye_fields_;
    Cache<MomentKey, std::shared_ptr<const SphereGrid>> confidences_;
    Cache<std::pair<PlanKey, double>, std::shared_ptr<const LightBands>> bands_; ///< by their widest, degrees
    Cache<BaseKey, Picture> bases_;
    std::mutex base_mutex_;
    std::shared_ptr<const BaseKey> asked_; ///< of the last picture with patches
    std::mutex grader_mutex_;
    Grade graded_;
    std::shared_ptr<const Grader> grader_;
};

/// Left above or beside right for stereo views, else the one picture: what a deliverable of that layout
/// shows.
Picture compose_layout(Composer& composer, const Project& project, const Shot& shot, Seconds time, View view,
                       StereoLayout layout, const Cancel& cancel = {});

} // namespace porb
