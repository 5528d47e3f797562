#include "align/correlate.h"
#include "align/motion_signal.h"
#include "align/offsets.h"
#include "align/timecode.h"
#include "base/angle.h"
#include "base/error.h"
#include "media/writer.h"
#include "project/origins.h"
#include "support/support.h"

#include <cmath>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {

constexpr int kRate = 48000;

/// A tiny movie with the given mono sound.
void write_heard_movie(const std::filesystem::path& path, const std::vector<float>& sound,
                       const std::string& timecode = {}) {
    VideoFormat format;
    format.width = format.height = 64;
    format.fast = true;
    format.crf = 40;
    format.timecode = timecode;
    if (!sound.empty()) format.sound = SoundFormat{kRate, 1, 96000};
    VideoWriter writer(path, format);
    const int frames = sound.empty() ? 60 : int(sound.size() * 30 / kRate);
    Picture p(64, 64);
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < 64; ++x) set_pixel(p, x, y, {0.5f, 0.5f, 0.5f, 1});
    for (int n = 0; n < frames; ++n) writer.write(p);
    writer.write_sound(sound);
    writer.finish();
}

/// A shot whose cameras A, B, ... have those files.
struct Take {
    Project project;
    Take(const TempFolder& folder, const std::vector<std::string>& files) {
        Shot shot = shot_for_rig(nominal_rig(int(files.size()), 64, 64, 1, 190), "take");
        for (std::size_t i = 0; i < files.size(); ++i)
            shot.cameras[i].media = add_media(project, media_ref_for(folder / files[i]));
        project.shots.push_back(shot);
    }
    const Shot& shot() const { return project.shots.front(); }
    std::vector<FoundOffset> find(AlignOptions o = {}) const {
        MediaLibrary library;
        return find_offsets(project, shot(), library, o, {}, {});
    }
};

/// Voices that differ by seed and share nothing.
std::vector<float> other_voice(double seconds, unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<float> unit(-1, 1);
    std::vector<float> out;
    float y1 = 0, y2 = 0, loud = 0;
    for (int i = 0; i < int(seconds * kRate); ++i) {
        if (i % 9000 == 0) loud = std::max(0.0f, unit(random));
        const float y = 0.1f * unit(random) + 1.93f * y1 - 0.95f * y2;
        y2 = y1, y1 = y;
        out.push_back(std::clamp(0.4f * loud * y, -1.0f, 1.0f));
    }
    return out;
}

const double kOffsets[] = {0, -1.7, 2.3, 0.4137, -0.0231, 1.01667};
} // namespace

TEST_CASE("offsets from sound: six microphones at 10 dB, to a twentieth of a frame") {
    const TempFolder folder;
    std::vector<std::string> files;
    for (unsigned i = 0; i < 6; ++i) {
        // Each its own tone, noise 10 dB under the voice, and a start that is no whole frame.
        files.push_back("cam" + std::to_string(i) + ".mp4");
        write_heard_movie(folder / files.back(),
                          sim::hall_sound(-kOffsets[i], 9 * kRate, kRate, {40 + i, 1, true, 10.0}));
    }
    const Take take(folder, files);
    const auto found = take.find();
    REQUIRE(found.size() == 6);
    for (std::size_t i = 0; i < 6; ++i) {
        INFO(i << " confidence " << found[i].confidence << " off by " << found[i].offset_s - kOffsets[i]
               << " " << found[i].why_not);
        CHECK(found[i].found);
        CHECK(std::abs(found[i].offset_s - kOffsets[i]) < 0.05 / 30);
        CHECK(found[i].confidence > 0.7);
        CHECK(found[i].method == (i ? "sound" : "reference"));
        CHECK(found[i].drift_ppm == 0);
    }
    // Put into the shot: marked as found, and in moved to where all have begun.
    const Shot shot = aligned(take.shot(), found, true);
    CHECK(origin_of(shot.cameras[2], CameraValue::offset) == Origin{OriginKind::found, "sound"});
    CHECK(shot.timing.in.to_double() == Approx(1.7).margin(1.0 / 30));
    // Over a part only, and from guesses that are off.
    Take part = take;
    part.project.shots[0].timing.in = Seconds(1);
    AlignOptions o;
    o.from = Seconds(3), o.to = Seconds(5), o.most_offset_s = 4;
    for (const auto& f : part.find(o)) CHECK(f.found);
}

TEST_CASE("sound that is silent, missing, unrelated or a mere tone is refused, never guessed") {
    const TempFolder folder;
    write_heard_movie(folder / "a.mp4", sim::hall_sound(0, 8 * kRate, kRate, {1, 1, false, 20.0}));
    write_heard_movie(folder / "b.mp4", sim::hall_sound(0.5, 8 * kRate, kRate, {2, 1, true, 20.0}));
    write_heard_movie(folder / "silent.mp4", std::vector<float>(std::size_t(8 * kRate), 0.0f));
    write_heard_movie(folder / "mute.mp4", {});
    write_heard_movie(folder / "other.mp4", other_voice(8, 5));
    std::vector<float> hum, noise;
    std::mt19937 random(8);
    std::uniform_real_distribution<float> unit(-0.3f, 0.3f);
    for (int i = 0; i < 8 * kRate; ++i) {
        hum.push_back(0.5f * float(std::sin(2 * kPi * 440 * i / kRate)));
        noise.push_back(unit(random));
    }
    write_heard_movie(folder / "hum.mp4", hum);
    write_heard_movie(folder / "noise.mp4", noise);
    const auto found =
        Take(folder, {"a.mp4", "b.mp4", "silent.mp4", "mute.mp4", "other.mp4", "hum.mp4", "noise.mp4"})
            .find();
    CHECK(found[0].method == "reference");
    CHECK(found[1].found);
    CHECK(found[1].offset_s == Approx(-0.5).margin(0.05 / 30));
    const char* why[] = {"silent", "no sound", "nothing in common", "nothing in common", "nothing in common"};
    for (std::size_t i = 2; i < found.size(); ++i) {
        INFO(i << " confidence " << found[i].confidence);
        CHECK(!found[i].found);
        CHECK(found[i].why_not.find(why[i - 2]) != std::string::npos);
        CHECK(!found[i].mend.empty());
        CHECK(found[i].confidence <= kLeastConfidence);
    }
    // Refused cameras stay as they are.
    const Take two(folder, {"a.mp4", "other.mp4"});
    const Shot same = aligned(two.shot(), two.find(), true);
    CHECK(same.cameras[1].offset == Seconds(0));
    // The same hum in both: every period fits, so none does.
    const auto hums = Take(folder, {"hum.mp4", "hum.mp4", "noise.mp4"});
    CHECK(hums.find().size() == 3);
    CHECK(error_of([&] { Take(folder, {"a.mp4"}).find(); }).find("single source") != std::string::npos);
}

TEST_CASE("pairs of unrelated voices are refused, twenty times over") {
    int accepted = 0;
    for (unsigned seed = 0; seed < 20; ++seed) {
        Signal1d a{8000, 0, {{}}}, b{8000, 0, {{}}};
        for (const auto& [signal, s] : {std::pair{&a, 2 * seed + 100}, std::pair{&b, 2 * seed + 101}})
            for (const float v : other_voice(1.8, s)) signal->channels[0].push_back(v);
        const auto lag = find_lag(a, b, {});
        if (lag && confidence_of(*lag) >= kLeastConfidence) ++accepted;
    }
    CHECK(accepted == 0);
}

TEST_CASE("clocks that drift are noticed over a long take, said and corrected", "[slow]") {
    const TempFolder folder;
    const double ppm = 45;
    write_heard_movie(folder / "a.mp4", sim::hall_sound(0, 100 * kRate, kRate, {1, 1, false, 20.0}));
    // Runs fast: its second is shorter, so at shot time T it is at T (1 + ppm) + 0.8.
    const double speed = 1 / (1 + ppm * 1e-6);
    write_heard_movie(folder / "b.mp4",
                      sim::hall_sound(-0.8 * speed, 100 * kRate, kRate, {2, speed, true, 20.0}));
    const Take take(folder, {"a.mp4", "b.mp4"});
    const auto found = take.find();
    REQUIRE(found[1].found);
    CHECK(found[1].drift_ppm == Approx(ppm).margin(3));
    CHECK(found[1].offset_at_start_s == Approx(0.8).margin(0.0005));
    CHECK(drift_over(found[1].drift_ppm, 100) == Approx(0.0045).margin(0.0005));
    const Shot shot = aligned(take.shot(), found, true);
    for (const double t : {0.0, 50.0, 99.0})
        CHECK(source_time(shot.cameras[1], Rational::from_double(t)).to_double() ==
              Approx(t * (1 + ppm * 1e-6) + 0.8).margin(0.0005));
    // Left as it is, the offset is right in the middle.
    const Shot plain = aligned(take.shot(), found, false);
    CHECK(plain.cameras[1].drift_ppm == 0);
    CHECK(source_time(plain.cameras[1], Seconds(50)).to_double() ==
          Approx(50 * (1 + ppm * 1e-6) + 0.8).margin(0.001));
    CHECK(shot_time(shot.cameras[1], source_time(shot.cameras[1], Seconds(100))).to_double() ==
          Approx(100).margin(1e-7));
}

TEST_CASE("a simulated ring lines up by sound and by motion, as the truth says", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six, o.circle_size = 64, o.seconds = 3, o.rate = FrameRate(20),
    o.truth_width = 0, o.crf = 24;
    o.offsets_s = {0, -0.35, 0.5217, 0.2, -0.1, 0.04};
    o.faults.shake = o.faults.microphones = o.faults.exposure = true;
    sim::simulate(o, folder.path(), {}, {});
    Project project = load_project(folder / "hall_ring.porb");
    for (auto& c : project.shots[0].cameras) c.offset = Seconds(0);
    MediaLibrary library;
    for (const auto method : {AlignMethod::sound, AlignMethod::motion}) {
        AlignOptions options;
        options.method = method;
        options.most_offset_s = 2;
        const auto found = find_offsets(project, project.shots[0], library, options, {}, {});
        REQUIRE(found.size() == 6);
        for (std::size_t i = 0; i < 6; ++i) {
            INFO(name_of(method) << " " << i << " confidence " << found[i].confidence << " found "
                                 << found[i].offset_s << " true " << o.offsets_s[i] << " "
                                 << found[i].why_not);
            CHECK(found[i].found);
            CHECK(std::abs(found[i].offset_s - o.offsets_s[i]) <
                  (method == AlignMethod::sound ? 0.05 : 0.25) / 20);
        }
    }
    // The timecodes in the files say the same to half a frame.
    AlignOptions options;
    options.method = AlignMethod::timecode;
    for (const auto& f : find_offsets(project, project.shots[0], library, options, {}, {})) {
        CHECK(f.found);
        CHECK(std::abs(f.offset_s - o.offsets_s[std::size_t(f.camera[0] - 'A')]) <= 0.51 / 20);
    }
    const Cancel cancel;
    cancel.raise();
    CHECK_THROWS_AS(find_offsets(project, project.shots[0], library, {}, {}, cancel), Cancelled);
}

TEST_CASE("the turn between two pictures is measured through the lens") {
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six, o.circle_size = 120, o.distant = true;
    sim::Truth truth = sim::make_truth(o);
    sim::Hall hall;
    const Picture first = sim::render_source(hall, o, truth, {0}, 0);
    const Vec3 turn = Vec3(0.004, -0.007, 0.005);
    truth.actual.cameras[0].pose.turn = turn_of(rotation_of(truth.actual.cameras[0].pose.turn) *
                                                rotation_about(turn.normalized(), turn.norm()));
    const Picture second = sim::render_source(hall, o, truth, {0}, 0);
    const Vec3 found = turn_between(first, second, truth.actual.cameras[0].lens);
    INFO(found.transpose());
    CHECK((found - turn).norm() < 0.15 * turn.norm());
}

TEST_CASE("timecodes are read, drop-frame included, and nonsense is none") {
    const FrameRate ntsc(30000, 1001);
    CHECK(timecode_seconds("10:00:00:00", FrameRate(25)) == Approx(36000));
    CHECK(timecode_seconds("00:00:01:12", FrameRate(24)) == Approx(1.5));
    // One hour of drop-frame is an hour of the clock, to the 3.6 ms the standard leaves.
    CHECK(*timecode_seconds("01:00:00;00", ntsc) == Approx(3600).margin(0.004));
    CHECK(*timecode_seconds("00:01:00;02", ntsc) == Approx(1800 * 1.001 / 30).margin(1e-9));
    for (const char* bad :
         {"", "10:00", "aa:bb:cc:dd", "00:61:00:00", "00:00:00:30", "1:2:3:4:5", "00:00:00:"})
        CHECK(!timecode_seconds(bad, FrameRate(30)));
}
