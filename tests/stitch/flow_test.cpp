#include "base/angle.h"
#include "media/still.h"
#include "picture/compare.h"
#include "seams/crossings.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"
#include "stitch/strips/strip.h"
#include "support/support.h"

#include <array>
#include <map>
#include <numeric>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {
/// The first channel of every cell.
std::vector<float> by_cell(const SphereGrid& grid) {
    std::vector<float> out;
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) out.push_back(*grid.cell(x, y));
    return out;
}

} // namespace

TEST_CASE("parallax runs along a strip's rows and gives the distance") {
    Rig rig = nominal_rig(4, 200, 200, 1, 190);
    rig.cameras[0].pose.position_m = {0.01, -0.02, 0.08};
    rig.cameras[1].pose.position_m = {0.09, 0.01, -0.01};
    std::vector<Vec3> directions;
    for (int i = -10; i <= 10; ++i)
        for (int j = -10; j <= 10; ++j)
            directions.push_back(rotation_of({45 + 2.0 * i, 4.0 * j, 0}) * Vec3(0, 0, 1));
    const auto position = [&](std::size_t c) { return rig.cameras[c].pose.position_m; };
    const Strip strip =
        strip_about(position(0), position(1), directions, 1 / 0.8, radians(1), radians(0.25), radians(0.4));
    REQUIRE(strip.width > 0);
    CHECK(strip.width * strip.step < radians(130));
    for (const Vec3& d : directions) {
        const Vec2 at = strip.place(d);
        CHECK(at.x() > 0);
        CHECK(at.x() < strip.width);
        CHECK(at.y() > 0);
        CHECK(at.y() < strip.height);
        CHECK((strip.direction(at.x(), at.y()) - d).norm() < 1e-9);
        for (const double far : {0.8, 2.5, 40.0}) {
            const Vec3 thing = far * d, from_a = thing - strip.a_m, from_b = thing - strip.b_m;
            const Vec2 a = strip.place(from_a.normalized()), b = strip.place(from_b.normalized());
            CHECK(a.y() == Approx(b.y()).margin(1e-6)); // one row
            CHECK(b.x() > a.x());
            CHECK(std::min({a.x(), a.y()}) > 0); // on the strip, however near
            CHECK(b.x() < strip.width);
            CHECK(a.y() < strip.height);
            const double parallax = (b.x() - a.x()) * strip.step;
            // In single precision, whose parallax of a thing 40 m away has four figures left.
            CHECK(double(strip.distance_from_b(float(b.x()), float(parallax))) ==
                  Approx(from_b.norm()).epsilon(2e-4));
        }
    }
    const auto [first, end] = columns_about(strip, {directions[0]}, 1 / 0.8, 0);
    CHECK(first >= 0);
    CHECK(end > first);
    CHECK(end <= strip.width);
    CHECK(end - first < strip.width / 2);
    const double from_a = strip.place((0.8 * directions[0] - strip.a_m).normalized()).x(),
                 from_b = strip.place((0.8 * directions[0] - strip.b_m).normalized()).x();
    CHECK(first == int(std::floor(from_a)));
    CHECK(end == int(std::ceil(from_b)));
    CHECK(columns_about(strip, {}, 1, 0) == std::array<int, 2>{0, 0});
    // Opposite lenses share a band all round.
    rig.cameras[0].pose = {{0, 0, 0}, Vec3(0, 0, 0.02)};
    rig.cameras[1].pose = {{180, 0, 0}, Vec3(0, 0, -0.02)};
    std::vector<Vec3> band;
    for (int i = 0; i < 360; i += 3) band.push_back(Vec3(std::cos(radians(i)), std::sin(radians(i)), 0));
    const Strip round =
        strip_about(position(0), position(1), band, 0, radians(4), radians(0.5), radians(0.8));
    CHECK(round.height * round.row_step > radians(355));
    CHECK(round.width * round.step == Approx(radians(8)).margin(radians(1)));
    CHECK(strip_about(position(0), position(0), band, 1, 0.1, 0.01, 0.01).width == 0); // no baseline
}

namespace {
/// Of the pixels within 4 degrees of the six seams, the poles left out.
double seam_psnr_db(const Picture& made, const Picture& truth) {
    double sum = 0, n = 0;
    for (int y = 0; y < made.height(); ++y)
        for (int x = 0; x < made.width(); ++x) {
            const double lon = ((x + 0.5) / made.width() - 0.5) * 360,
                         lat = (0.5 - (y + 0.5) / made.height()) * 180;
            const double from_seam = std::abs(std::remainder(lon - 30, 60));
            if (from_seam > 4 || std::abs(lat) > 60) continue;
            const Rgba a = pixel_at(made, x, y), b = pixel_at(truth, x, y);
            sum += std::pow(double(a.r - b.r), 2) + std::pow(double(a.g - b.g), 2) +
                   std::pow(double(a.b - b.b), 2);
            n += 3;
        }
    return -10 * std::log10(sum / n);
}
} // namespace

TEST_CASE("distances near seams are those of the room, and the sphere comes closer to the truth", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 480;
    o.things = GENERATE(sim::Things::none, sim::Things::clutter);
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    sim::Hall hall(o.things);
    View view;
    view.target = equirect_target(640);
    Composer composer(std::make_shared<MediaLibrary>());
    const Picture truth = sim::true_panorama(hall, o, 0, SphereMapping::equirect, 640, sim::TruthEye::mono);
    const auto quality = [&] {
        return seam_psnr_db(composer.compose(take.project, shot, Seconds(0), view), truth);
    };
    shot.seams.flow.on = false;
    const double without = quality();
    shot.seams.flow.on = true;
    const double with = quality();
    INFO(without << " dB without, " << with << " dB with");
    CHECK(with > without + 1.2);

    const SphereGrid field = composer.distances(take.project, shot, Seconds(0));
    REQUIRE_FALSE(field.empty());
    std::vector<double> off, plain;
    const Coverage coverage(plan_key(shot, view));
    for (int i = 0; i < 6; ++i) // along the six seams
        for (int lat = -50; lat <= 50; ++lat) {
            const Vec3 d = rotation_of({30.0 + 60 * i, double(lat), 0}) * Vec3(0, 0, 1);
            const double depth = double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>()));
            off.push_back(std::abs(field.at(d) - 1 / depth));
            plain.push_back(std::abs(0.25 - 1 / depth));
        }
    std::nth_element(off.begin(), off.begin() + std::ptrdiff_t(off.size() / 2), off.end());
    std::nth_element(plain.begin(), plain.begin() + std::ptrdiff_t(plain.size() / 2), plain.end());
    INFO("median error " << off[off.size() / 2] << " 1/m, at one distance " << plain[plain.size() / 2]);
    CHECK(off[off.size() / 2] < 0.03);
    CHECK(off[off.size() / 2] < 0.5 * plain[plain.size() / 2]);

    // A seam should agree where what lies on it is, by the median of what is trusted.
    const SphereGrid trust = composer.confidence(take.project, shot, Seconds(0));
    for (std::size_t i = 0; i < 6; ++i) {
        const std::size_t a = i, b = (i + 1) % 6;
        const auto metres = seam_distance_m(take.project, shot, composer, shot.cameras[a].camera,
                                            shot.cameras[b].camera, Seconds(0));
        std::vector<double> on_seam;
        for (int n = 0; n < 40000; ++n) { // evenly over the sphere (Fibonacci's spiral)
            const double z = 1 - (2 * n + 1) / 40000.0, r = std::sqrt(1 - z * z),
                         turn = 2.39996322972865332 * n;
            const Vec3 d(r * std::cos(turn), z, r * std::sin(turn));
            const auto leads = coverage.lead_deg(d);
            const double lead = std::abs(leads[a] - leads[b]);
            const bool first = std::count_if(leads.begin(), leads.end(), [&](double other) {
                                   return other > std::min(leads[a], leads[b]);
                               }) < 2;
            if (first && lead / 2 <= 3 && trust.at(d) > 0.5)
                on_seam.push_back(1 / double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>())));
        }
        REQUIRE(on_seam.size() > 50);
        std::sort(on_seam.begin(), on_seam.end());
        INFO("seam " << i << ": " << metres.value_or(-1) << " m, truth " << 1 / on_seam[on_seam.size() / 2]);
        REQUIRE(metres);
        // Within a tenth of the seam: where two things share it the median falls on one or the other.
        CHECK(1 / *metres > on_seam[on_seam.size() * 4 / 10] - 0.005);
        CHECK(1 / *metres < on_seam[on_seam.size() * 6 / 10] + 0.005);
        CHECK_FALSE(seam_distance_m(take.project, shot, composer, shot.cameras[a].camera,
                                    shot.cameras[(i + 3) % 6].camera, Seconds(0)));
    }
}

TEST_CASE("under a rig that was not solved no distances are believed") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 240);
    Shot& shot = take.project.shots[0];
    Composer composer(std::make_shared<MediaLibrary>());
    const auto share_told = [&] { // of the field, that is not at the agree distance
        const SphereGrid field = composer.distances(take.project, shot, Seconds(0));
        const std::vector<float> inverse_m = by_cell(field);
        const auto told =
            std::count_if(inverse_m.begin(), inverse_m.end(), [](float v) { return v > 0.01f; });
        return double(told) / double(inverse_m.size());
    };
    const double solved = share_told();
    CHECK(solved > 0.15);
    const Vec3 seam = rotation_of({30, -40, 0}) * Vec3(0, 0, 1); // the floor, 2.5 m away
    const double whole = composer.distances(take.project, shot, Seconds(0)).at(seam);
    CHECK(whole > 0.3);
    shot.seams.flow.strength = 0.5;
    CHECK(composer.distances(take.project, shot, Seconds(0)).at(seam) == Approx(whole / 2));
    shot.seams.flow.strength = 1;
    for (std::size_t c = 0; c < 6; ++c) {
        shot.rig.cameras[c].pose.turn.pitch_deg += c % 2 ? 1.4 : -1.4;
        shot.rig.cameras[c].pose.turn.roll_deg += 1.5;
    }
    CHECK(share_told() < 0.01); // matches under a wrong rig are not believed
}

TEST_CASE("distances count whole within half a zone and pass evenly to the agree distance at its end") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 300);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 10;
    shot.seams.flow.zone_deg = 24; // so that some of the floor lies past it
    shot.seams.flow.everywhere = false;
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(1024);
    const Coverage coverage(plan_key(shot, view));
    sim::Hall hall;
    struct Place {
        double lead_deg, found, truth; ///< the latter two above the agree distance, 1/m
    };
    std::vector<Place> places; // on the floor, whose distance changes little along a circle
    const SphereGrid field = composer.distances(take.project, shot, Seconds(0));
    for (double yaw = 0; yaw < 360; yaw += 0.5) {
        const Vec3 d = rotation_of({yaw, -35, 0}) * Vec3(0, 0, 1);
        auto lead = coverage.lead_deg(d);
        std::sort(lead.rbegin(), lead.rend());
        places.push_back({lead[0] - lead[1], field.at(d) - 0.1,
                          1 / double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>())) - 0.1});
    }
    const auto share = [&](double from_deg, double to_deg) { // of the true distance, the median
        std::vector<double> shares;
        for (const Place& p : places)
            if (p.lead_deg >= from_deg && p.lead_deg < to_deg) shares.push_back(p.found / p.truth);
        REQUIRE(shares.size() > 20);
        std::nth_element(shares.begin(), shares.begin() + std::ptrdiff_t(shares.size() / 2), shares.end());
        return shares[shares.size() / 2];
    };
    const double zone = shot.seams.flow.zone_deg;
    CHECK(share(0, 0.25 * zone) == Approx(1).margin(0.06));
    CHECK(share(0.25 * zone, 0.5 * zone) == Approx(1).margin(0.06));
    CHECK(share(0.7 * zone, 0.8 * zone) == Approx(0.5).margin(0.12));
    CHECK(share(zone + 1, 90) == Approx(0).margin(1e-4));
    double steepest = 0; // no line breaks: from place to place little changes
    for (std::size_t i = 1; i < places.size(); ++i)
        steepest = std::max(steepest, std::abs(places[i].found - places[i - 1].found));
    CHECK(steepest < 0.06);
}

TEST_CASE("everywhere, distances are the room's wherever two cameras see, and overlaps are like the truth",
          "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 480;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    shot.seams.flow.on = true;
    shot.seams.flow.everywhere = false;
    sim::Hall hall;
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(640);
    const Coverage coverage(plan_key(shot, view));
    const auto median_off = [&] { // far from seams, where the second camera sees well
        const SphereGrid field = composer.distances(take.project, shot, Seconds(0));
        std::vector<double> off;
        for (int yaw = 0; yaw < 360; yaw += 3)
            for (int lat = -45; lat <= 45; lat += 3) {
                const Vec3 d = forward_of({double(yaw), double(lat), 0});
                auto lead = coverage.lead_deg(d), margin = coverage.margin_deg(d);
                std::sort(lead.rbegin(), lead.rend());
                std::sort(margin.rbegin(), margin.rend());
                if (lead[0] - lead[1] < shot.seams.flow.zone_deg || margin[1] < 3) continue;
                off.push_back(
                    std::abs(field.at(d) - 1 / double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>()))));
            }
        REQUIRE(off.size() > 500);
        std::nth_element(off.begin(), off.begin() + std::ptrdiff_t(off.size() / 2), off.end());
        return off[off.size() / 2];
    };
    const Picture truth = sim::true_panorama(hall, o, 0, SphereMapping::equirect, 640, sim::TruthEye::mono);
    // What the agree distance displaces by half a pixel and more, in the band that two cameras see
    // everywhere.
    const TargetMap map(view.target);
    std::vector<std::pair<int, int>> displaced;
    for (int y = 90; y < 230; ++y)
        for (int x = 0; x < 640; ++x) {
            const Vec3 d = *map.direction({x + 0.5, y + 0.5});
            auto lead = coverage.lead_deg(d);
            const auto best = std::size_t(std::max_element(lead.begin(), lead.end()) - lead.begin());
            std::sort(lead.rbegin(), lead.rend());
            const double off = 1 / double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>())) - 0.25,
                         across = shot.rig.cameras[best].pose.position_m.cross(d).norm();
            if (lead[0] - lead[1] > shot.seams.flow.zone_deg && std::abs(off) * across > kPi / 640)
                displaced.emplace_back(x, y);
        }
    REQUIRE(displaced.size() > 200);
    const auto error = [&] {
        const Picture made = composer.compose(take.project, shot, Seconds(0), view);
        double sum = 0;
        for (const auto& [x, y] : displaced) {
            const double d = double(pixel_at(made, x, y).g - pixel_at(truth, x, y).g);
            sum += d * d;
        }
        return sum;
    };
    const double near_seams = error();
    CHECK(median_off() > 0.05); // the agree distance stands there
    shot.seams.flow.everywhere = true;
    CHECK(median_off() < 0.02);
    const double everywhere = error();
    INFO(near_seams << " near seams, " << everywhere << " everywhere");
    CHECK(everywhere < 0.65 * near_seams);
}

TEST_CASE("zones grow and shrink, and surfaces grow smoother, from key to key, and no plan is made anew") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 240);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 10;
    shot.seams.flow.everywhere = false;
    shot.seams.flow.keys = {{Seconds(0), 1, 32, 1}, {Seconds(2), 1, 8, 1}, {Seconds(4), 1, 8, 8}};
    View view;
    view.target = equirect_target(512);
    CHECK(plan_key(shot, view, Seconds(0)) == plan_key(shot, view, Seconds(2)));
    CHECK(plan_key(shot, view, Seconds(0)) == plan_key(shot, view, Seconds(4)));
    Composer composer(std::make_shared<MediaLibrary>());
    const auto field = [&](const Shot& s, Seconds time) { return composer.distances(take.project, s, time); };
    const Vec3 on = rotation_of({30, -38, 0}) * Vec3(0, 0, 1),
               beside = rotation_of({19, -38, 0}) * Vec3(0, 0, 1);
    const SphereGrid wide = field(shot, Seconds(0)), between = field(shot, Seconds(1)),
                     narrow = field(shot, Seconds(2));
    CHECK(narrow.at(on) == Approx(wide.at(on)).margin(1e-5)); // on the seam it counts whole
    CHECK(wide.at(beside) > 0.2);
    CHECK(narrow.at(beside) == Approx(0.1).margin(1e-6));
    CHECK(between.at(beside) > 0.11);
    CHECK(between.at(beside) < wide.at(beside) - 0.02);
    CHECK(field(shot, Seconds(4)).values != narrow.values); // smoother
    // At each key it is what a shot is that has it so throughout.
    Shot fixed = shot;
    fixed.seams.flow.keys.clear();
    fixed.seams.flow.zone_deg = 8;
    const std::vector<float> a = by_cell(narrow), b = by_cell(field(fixed, Seconds(0)));
    double apart = 0;
    for (std::size_t i = 0; i < a.size(); ++i) apart += std::abs(double(a[i] - b[i])) > 0.02;
    CHECK(apart / double(a.size()) < 0.02); // strips of a wider zone see more about it

    // One seam's keys are its own.
    fixed.seams.flow.zone_deg = 32;
    fixed.seams.flow.seams = {{shot.cameras[0].camera,
                               shot.cameras[1].camera,
                               1,
                               32,
                               1,
                               std::nullopt,
                               {{Seconds(0), 1, 32, 1}, {Seconds(2), 0, 8, 1}}}};
    const Vec3 other = rotation_of({90, -38, 0}) * Vec3(0, 0, 1);
    const SphereGrid first = field(fixed, Seconds(0)), last = field(fixed, Seconds(2));
    CHECK(last.at(other) == first.at(other));
    CHECK(first.at(on) > 0.2);
    CHECK(last.at(on) == Approx(0.1).margin(1e-6)); // its strength is 0
    CHECK(field(fixed, Seconds(1)).at(on) == Approx((first.at(on) + 0.1) / 2).margin(0.02));
}

TEST_CASE("a seam's own strength and agree distance change that seam alone, and make no zones anew") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 240);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    Composer composer(std::make_shared<MediaLibrary>());
    const auto field = [&] { return composer.distances(take.project, shot, Seconds(0)); };
    const auto floor_at = [](double yaw_deg) -> Vec3 {
        return rotation_of({yaw_deg, -40, 0}) * Vec3(0, 0, 1);
    };
    const SphereGrid before = field();
    const PlanKey key = plan_key(shot, View());
    REQUIRE(before.at(floor_at(30)) > 0.3);
    REQUIRE(before.at(floor_at(30), 1) > 0.5); // both show the same there
    const std::string a = shot.cameras[0].camera, b = shot.cameras[1].camera;
    shot.seams.flow.seams = {{a, b, 0, shot.seams.flow.zone_deg, shot.seams.flow.smoothness, std::nullopt}};
    const SphereGrid off = field();
    const bool first = std::abs(off.at(floor_at(30)) - 0.25) < 1e-4; // which side a and b meet on
    const double own = first ? 30 : -30, other = first ? -30 : 30;
    CHECK(off.at(floor_at(own)) == Approx(0.25).margin(1e-4));
    CHECK(off.at(floor_at(own), 1) == Approx(0).margin(1e-4)); // nothing is laid on each other
    CHECK(off.at(floor_at(other)) == Approx(before.at(floor_at(other))));
    const PlanKey without = plan_key(shot, View());
    shot.seams.flow.seams[0].agree_distance_m = 2;
    CHECK(field().at(floor_at(own)) == Approx(0.5).margin(1e-4));
    shot.seams.flow.seams[0].strength = 0.5;
    const double half = field().at(floor_at(own));
    CHECK(half == Approx((0.5 + before.at(floor_at(own))) / 2).margin(0.01));
    CHECK(plan_key(shot, View()) == without);
    shot.seams.flow.seams.clear();
    CHECK(plan_key(shot, View()) == key);
}

TEST_CASE("where all is far, what cameras show alike is mixed widely, and what is near comes from one") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 240;
    o.distant = true;
    o.faults.noise = true;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.flow.on = true;
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(432);
    sim::Hall hall;
    const Picture truth = sim::true_panorama(hall, o, 0, SphereMapping::equirect, 432, sim::TruthEye::mono);
    const auto quality = [&](double agree_m) {
        shot.seams.agree_distance_m = agree_m;
        return psnr_db(composer.compose(take.project, shot, Seconds(0), view), truth);
    };
    const double wide = quality(0), narrow = quality(40);
    INFO(wide << " dB mixed widely, " << narrow << " dB in transitions alone");
    CHECK(wide > narrow + 0.15);

    // Past flow's zone, where plans let two cameras share: a thing that only one of them shows there.
    shot.seams.agree_distance_m = 0;
    const Vec3 there = rotation_of({18, 0, 0}) * Vec3(0, 0, 1);
    const auto lead = Coverage(plan_key(shot, view)).lead_deg(there);
    std::vector<std::size_t> order(lead.size());
    std::iota(order.begin(), order.end(), 0);
    std::sort(order.begin(), order.end(), [&](auto a, auto b) { return lead[a] > lead[b]; });
    REQUIRE(lead[order[0]] - lead[order[1]] > 0.6 * shot.seams.flow.zone_deg);
    REQUIRE(lead[order[0]] - lead[order[1]] < 30);
    const std::size_t second = order[1];
    const Camera& camera = *find_camera(shot.rig, shot.cameras[second].camera);
    const Media* media = find_media(take.project, shot.cameras[second].media);
    Picture source = read_still(media->ref.path);
    const Vec2 px = LensMap(camera.lens).project_anywhere(rotation_of(camera.pose.turn).transpose() * there);
    for (int y = 0; y < source.height(); ++y)
        for (int x = 0; x < source.width(); ++x)
            if ((Vec2(x + 0.5, y + 0.5) - px).norm() < 8) set_pixel(source, x, y, {0.9f, 0, 0, 1});
    write_still(source, media->ref.path, {16, 95, {}});
    const Vec2 at = *TargetMap(view.target).pixel(there);
    const auto seen = [&](Composer& by) {
        return pixel_at(by.compose(take.project, shot, Seconds(0), view), int(at.x()), int(at.y()));
    };
    Composer anew(std::make_shared<MediaLibrary>());
    const Rgba before = seen(composer), after = seen(anew);
    CHECK(std::abs(after.r - before.r) < 0.06f);
    CHECK(std::abs(after.g - before.g) < 0.06f);
    shot.cameras[order[0]].used = false; // it is there
    CHECK(seen(anew).r > before.r + 0.3f);
}

TEST_CASE("pairs that a view does not show are left out, and the others tell what they tell among all") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 300);
    Shot& shot = take.project.shots[0];
    shot.seams.flow.on = shot.seams.flow.everywhere = true;
    Composer composer(std::make_shared<MediaLibrary>());
    PlanKey key = plan_key(shot, {});
    key.view.target = window_target(640, 360, {30, 0, 0}, 50);
    const SphereBlocks blocks = blocks_shown(key);
    const SeamZones zones(for_every_view(key));
    const SeamZones::Pairs pairs = zones.pairs_in(blocks);
    const std::vector<bool> needed = zones.cameras_of(pairs);
    CHECK(std::count(pairs.begin(), pairs.end(), true) >= 1);
    CHECK(std::count(pairs.begin(), pairs.end(), false) >= 3);
    CHECK(std::count(needed.begin(), needed.end(), false) >= 2);
    const auto frames = composer.source_frames(take.project, shot, Seconds(0), zones.cameras());
    REQUIRE(frames);
    std::vector<SourcePicture> some = as_sources(frames->sources);
    const SeamZones::Weighed all[] = {{zones.match_moment(some, frames->tones, shot.seams.flow)}};
    for (std::size_t c = 0; c < needed.size(); ++c)
        if (!needed[c]) some[c] = {}; // nobody looks at it
    const SeamZones::Weighed part[] = {{zones.match_moment(some, frames->tones, shot.seams.flow, pairs)}};
    CHECK(SeamZones::bytes_of(*part[0].matched) < SeamZones::bytes_of(*all[0].matched));
    const SphereGrid whole = zones.field(all, shot.seams.flow), shown = zones.field(part, shot.seams.flow),
                     trusted = zones.confidence(part, shot.seams.flow);
    const TargetMap map(key.view.target);
    const Mat3 to_rig = rotation_of(key.orientation).transpose();
    int off = 0, found = 0, pixels = 0;
    for (int y = 0; y < 360; y += 3)
        for (int x = 0; x < 640; x += 3, ++pixels) {
            const Vec3 d = to_rig * *map.direction({x + 0.5, y + 0.5});
            off += std::abs(whole.at(d) - shown.at(d)) > 0.003;
            found += trusted.at(d) > 0.3;
        }
    CHECK(found > 0.3 * pixels);
    CHECK(off < 0.01 * pixels);
}

TEST_CASE("narrow overlaps are trusted as wide ones are, under a solved rig alone") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::two_fisheyes;
    o.circle_size = 400;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.flow.on = true;
    Composer composer(std::make_shared<MediaLibrary>());
    const auto trusted = [&] { // mean over the zone
        double sum = 0;
        int cells = 0;
        for (const float v : by_cell(composer.confidence(take.project, shot, Seconds(0))))
            if (v >= 0) sum += double(v), ++cells;
        return cells > 0 ? sum / cells : -1;
    };
    const double solved = trusted();
    CHECK(solved > 0.8);
    shot.rig.cameras[0].pose.turn.pitch_deg += 1.4;
    shot.rig.cameras[1].pose.turn.pitch_deg -= 1.4;
    shot.rig.cameras[0].pose.turn.roll_deg += 1.5;
    CHECK(trusted() < 0.35 * solved);
}

TEST_CASE("where nothing moves, distances stand still under noise, and where it does they do not lag",
          "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 240;
    StillTake take = hall_still(folder, o);
    const Shot& shot = take.project.shots[0];
    PlanKey key = plan_key(shot, View());
    key.view.target = equirect_target(4096);
    const SeamZones zones(key);
    std::mt19937 random(5);
    std::normal_distribution<float> noise(0, 0.01f);
    MediaLibrary library;
    const auto moment = [&](float brighter) {
        std::vector<Picture> sources;
        for (const auto& c : zones.cameras()) {
            Picture p = *library.picture(find_media(take.project, shot.cameras[c.index].media)->ref,
                                         Seconds(0), c.level);
            Picture noisy(p.width(), p.height());
            for (int y = 0; y < p.height(); ++y)
                for (int x = 0; x < p.width(); ++x) {
                    Rgba v = pixel_at(p, x, y);
                    const float n = noise(random) + brighter;
                    set_pixel(noisy, x, y, {v.r + n, v.g + n, v.b + n, v.a});
                }
            sources.push_back(noisy);
        }
        const std::vector<CameraTone> tones(sources.size());
        return zones.match_moment(as_sources(sources), tones, shot.seams.flow);
    };
    constexpr std::int64_t kFrames = 52;
    const FrameRate rate(24);
    std::vector<SeamZones::MatchedMomentPtr> frames;
    for (std::int64_t n = 0; n < kFrames; ++n) frames.push_back(n < 46 && n % 8 != 0 ? nullptr : moment(0));
    const auto field = [&](const std::vector<SeamZones::Weighed>& moments) {
        return zones.field(moments, shot.seams.flow);
    };
    const auto of = [&](std::int64_t n) {
        std::vector<SeamZones::Weighed> out;
        for (const SupportFrame& w : support_frames_of(frame_time(n, rate), rate))
            out.push_back({frames[std::size_t(frame_index(w.time, rate))], w.weight});
        return out;
    };
    const auto apart = [](const SphereGrid& a, const SphereGrid& b) {
        double sum = 0;
        for (std::size_t i = 0; i < a.values.size(); ++i) sum += double(std::abs(a.values[i] - b.values[i]));
        return sum / double(a.values.size());
    };
    double alone = 0, steady = 0; // from frame to frame, past a moment that begins to count at 48
    for (std::int64_t n = 46; n + 1 < kFrames; ++n) {
        alone += apart(field({{frames[std::size_t(n)]}}), field({{frames[std::size_t(n + 1)]}}));
        steady += apart(field(of(n)), field(of(n + 1)));
    }
    INFO(alone << " alone, " << steady << " steadied");
    CHECK(alone > 0);
    CHECK(steady < 0.2 * alone);
    // Everything changed: places do not follow the other moments (how far all is trusted is a mean over them
    // still).
    auto changed = of(51);
    changed.back().matched = moment(0.1f);
    CHECK(apart(field(changed), field({changed.back()})) < 0.2 * alone / 5);
}

TEST_CASE("witnesses of a moment come and go evenly, and none is after it") {
    const FrameRate rate(30000, 1001);
    std::map<Seconds, float> before;
    for (std::int64_t n = 0; n < 200; ++n) {
        const Seconds time = frame_time(n, rate);
        const auto support_frames = support_frames_of(time, rate);
        CHECK(support_frames.size() >= (n > 60 ? 6u : 1u));
        CHECK(support_frames.back().time == time);
        CHECK(counts_for_others(time, rate) == (n % 10 == 0));
        std::map<Seconds, float> now;
        for (std::size_t i = 0; i + 1 < support_frames.size(); ++i) {
            CHECK(support_frames[i].time < time);
            CHECK(support_frames[i].time >= Seconds(0));
            CHECK(counts_for_others(support_frames[i].time, rate));
            now[support_frames[i].time] = support_frames[i].weight;
        }
        if (n > 0)
            for (const auto* list : {&before, &now})
                for (const auto& [when, unused] : *list) CHECK(std::abs(before[when] - now[when]) < 0.06f);
        before = now;
    }
    // Slower than three frames a second, every frame is one.
    for (const SupportFrame& w : support_frames_of(Seconds(20), FrameRate(2)))
        CHECK((w.time * Rational(2)).den() == 1);
}
