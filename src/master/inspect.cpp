#include "master/inspect.h"

#include "media/sequence.h"
#include "media/still.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

/// Width of one eye over its height.
double eye_aspect(const Inspection& i) {
    const double w = i.info.width, h = i.info.height;
    if (i.stereo == "top-bottom") return w / (h / 2);
    if (i.stereo == "left-right") return w / 2 / h;
    return w / h;
}

void judge_shape(Inspection& i) {
    if (i.projection == "flat") return;
    const double expected = i.projection == "equirectangular" ? 2 : 1;
    if (std::abs(eye_aspect(i) / expected - 1) > 0.01)
        i.problems.push_back(fmt::format("each eye is {:.3g} times as wide as high, but {} pictures are "
                                         "{}:1; it will look stretched. Master it "
                                         "again at the right size, or correct the stereo layout",
                                         eye_aspect(i), i.projection, int(expected)));
}

void inspect_movie(Inspection& i, const std::filesystem::path& path) {
    const SphericalFacts facts = read_spherical(path);
    i.v1 = facts.v1.has_value();
    i.v2 = facts.v2.has_value();
    for (const auto& p : facts.problems) i.problems.push_back(p + "; tag the file again");
    if (const auto& tag = facts.v2 ? facts.v2 : facts.v1) {
        i.projection = name_of(tag->mapping);
        i.stereo = name_of(tag->stereo);
    }
    if (!i.v1 && !i.v2) {
        i.problems.push_back("nothing in the file says that it is a sphere: players will show it flat. Tag "
                             "it, or master it again as MP4 or MOV");
    } else {
        if (!i.v2)
            i.problems.push_back("the newer form of metadata (sv3d) is missing: some players will show it "
                                 "flat. Tag the file again");
        if (!i.v1)
            i.problems.push_back("the older form of metadata (XML) is missing: older players will show it "
                                 "flat. Tag the file again");
        if (i.v2 && !facts.has_st3d)
            i.problems.push_back(
                "the stereo layout (st3d) is not stated: players will guess. Tag the file again");
    }
    if (i.info.variable_rate)
        i.problems.push_back(
            "the frame rate varies: some players stutter. Master it again at a constant rate");
    if (i.info.codec == "h264" && (i.info.width > 4096 || i.info.height > 4096))
        i.problems.push_back("H.264 above 4096 pixels is beyond many players. Master it again as H.265");
    if (i.info.codec == "h264" && i.info.depth > 8)
        i.problems.push_back("10-bit H.264 is beyond most players. Master it again as H.265, or with 8 bits");
}

void inspect_still(Inspection& i, const std::filesystem::path& path) {
    if (i.info.codec == "exr") {
        i.envmap = exr_facts(path).latlong;
        if (i.envmap) i.projection = name_of(SphereMapping::equirect);
        return;
    }
    if (const auto tag = read_photo_sphere(path)) {
        i.photo_sphere = true;
        i.projection = name_of(tag->mapping);
    } else {
        i.problems.push_back("nothing in the picture says that it is a sphere: viewers will show it flat. "
                             "Render the still again as JPEG or PNG");
    }
}

/// By some of its frames, first and last among them: each has to say for itself that it is a sphere.
void inspect_sequence(Inspection& i, const std::filesystem::path& pattern) {
    constexpr std::size_t kLooks = 9;
    auto numbers = numbers_of(pattern);
    std::sort(numbers.begin(), numbers.end());
    const std::size_t looks = std::min(kLooks, numbers.size());
    for (std::size_t k = 0; k < looks; ++k) {
        const auto file =
            numbered_file(pattern, numbers[looks == 1 ? 0 : k * (numbers.size() - 1) / (looks - 1)]);
        Inspection frame;
        frame.info = probe({file, MediaKind::still, i.info.rate});
        inspect_still(frame, file);
        if (k == 0) {
            i.projection = frame.projection;
            i.photo_sphere = frame.photo_sphere, i.envmap = frame.envmap;
            i.problems = frame.problems;
            continue;
        }
        const bool alike = frame.projection == i.projection && frame.info.width == i.info.width &&
                           frame.info.height == i.info.height;
        if (alike) continue;
        i.problems.push_back(fmt::format("{} is {} x {}, {}, the first frame {} x {}, {}: frames of two "
                                         "renders are mixed. Remove the old ones, or master it again",
                                         file.filename().string(), frame.info.width, frame.info.height,
                                         frame.projection, i.info.width, i.info.height, i.projection));
        return;
    }
}

std::string verdict_of(const Inspection& i) {
    if (i.projection == "flat") return "Players will show a flat picture.";
    const std::string shape =
        i.projection == "equirectangular" ? "a whole sphere" : "the front half of a sphere";
    const std::string eyes = i.stereo == "mono" ? "the same for both eyes" : "left and right eye " + i.stereo;
    return "Players will show " + shape + ", " + eyes +
           (i.problems.empty() ? "." : ", with the reservations listed.");
}

} // namespace

Inspection inspect(const std::filesystem::path& path) {
    Inspection i;
    i.info = probe(media_ref_for(path));
    if (i.info.ref.kind == MediaKind::video)
        inspect_movie(i, path);
    else if (i.info.ref.kind == MediaKind::still)
        inspect_still(i, path);
    else
        inspect_sequence(i, path);
    judge_shape(i);
    i.verdict = verdict_of(i);
    return i;
}

} // namespace porb
