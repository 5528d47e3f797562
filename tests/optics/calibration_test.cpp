#include "base/angle.h"
#include "base/error.h"
#include "base/file.h"
#include "optics/calibration.h"
#include "support/support.h"

#include <Eigen/Geometry>

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

const CalibrationFormat kFormats[] = {CalibrationFormat::yaml, CalibrationFormat::xml,
                                      CalibrationFormat::json};

Lens uneven_pinhole() {
    Lens lens;
    lens.projection = Projection::rectilinear;
    lens.width = 640, lens.height = 480;
    lens.focal_px = 455.37;
    lens.non_radial.aspect = 1.0031;
    lens.center_px = {316.7, 243.9};
    lens.radial = {-0.21, 0.08, -0.011, 0};
    lens.non_radial.tangential = {0.0011, -0.0007};
    lens.circle = {lens.center_px, 350};
    return lens;
}

/// The rays of a lens, four to a pixel.
struct Rays {
    int width, height;
    std::vector<std::optional<Vec3>> at;
    explicit Rays(const Lens& lens) : width(lens.width), height(lens.height) {
        const LensMap map(lens);
        for (int y = 0; y < 2 * height; ++y)
            for (int x = 0; x < 2 * width; ++x) at.push_back(map.unproject(Vec2(x + 0.5, y + 0.5) / 2));
    }
};

/// A board of dark and light squares, each ray followed to it.
cv::Mat board_picture(const Rays& rays, const Mat3& board_turn, const Vec3& board_at, cv::Size inner,
                      double square) {
    cv::Mat out(2 * rays.height, 2 * rays.width, CV_8U), small;
    const Mat3 back = board_turn.transpose();
    const Vec3 o = -(back * board_at);
    for (int y = 0; y < out.rows; ++y)
        for (int x = 0; x < out.cols; ++x) {
            const auto& ray = rays.at[std::size_t(y) * std::size_t(out.cols) + std::size_t(x)];
            double value = 0.35;
            if (ray) {
                const Vec3 d = back * *ray;
                const double t = -o.z() / d.z();
                if (t > 0) {
                    const Vec3 p = o + t * d;
                    const double u = p.x() / square + 1, v = p.y() / square + 1;
                    if (u > -0.7 && v > -0.7 && u < inner.width + 1.7 && v < inner.height + 1.7) value = 0.95;
                    if (u > 0 && v > 0 && u < inner.width + 1 && v < inner.height + 1)
                        value = (int(u) + int(v)) % 2 ? 0.95 : 0.05;
                }
            }
            out.at<uchar>(y, x) = uchar(std::lround(255 * value));
        }
    cv::resize(out, small, {}, 0.5, 0.5, cv::INTER_AREA);
    return small;
}

struct Boards {
    std::vector<std::vector<cv::Point3f>> objects;
    std::vector<std::vector<cv::Point2f>> corners;
};
Boards photographed(const Lens& lens, double nearest, double spread) {
    const cv::Size inner(8, 6);
    const double square = 0.05;
    std::vector<cv::Point3f> object;
    for (int y = 0; y < inner.height; ++y)
        for (int x = 0; x < inner.width; ++x) object.push_back({float(x * square), float(y * square), 0});
    std::mt19937 random(12);
    std::uniform_real_distribution<double> unit(-1, 1);
    Boards out;
    const Rays rays(lens);
    for (int i = 0; i < 40 && out.corners.size() < 14; ++i) {
        const Mat3 turn = rotation_of({35 * unit(random), 35 * unit(random), 20 * unit(random)});
        const Vec3 at = Vec3(-0.175, -0.125, nearest) +
                        Vec3(spread * unit(random), spread * unit(random), 0.15 + 0.15 * unit(random));
        const cv::Mat picture = board_picture(rays, turn, at, inner, square);
        std::vector<cv::Point2f> corners;
        if (!cv::findChessboardCorners(picture, inner, corners,
                                       cv::CALIB_CB_ADAPTIVE_THRESH | cv::CALIB_CB_FAST_CHECK))
            continue;
        cv::cornerSubPix(picture, corners, {4, 4}, {-1, -1},
                         {cv::TermCriteria::EPS + cv::TermCriteria::COUNT, 60, 1e-4});
        out.corners.push_back(corners);
        out.objects.push_back(object);
    }
    return out;
}

std::string stored(const cv::Mat& k, const cv::Mat& d, int fisheye, double rms, const cv::Size& size,
                   const char* ending) {
    cv::FileStorage out(ending, cv::FileStorage::WRITE | cv::FileStorage::MEMORY);
    out << "calibration_time"
        << "some day"
        << "image_width" << size.width << "image_height" << size.height;
    out << "fisheye_model" << fisheye << "camera_matrix" << k << "distortion_coefficients" << d
        << "avg_reprojection_error" << rms;
    return out.releaseAndGetString();
}

double worst_angle(const Lens& a, const Lens& b, double radius) {
    const LensMap ma(a), mb(b);
    double worst = 0;
    for (int i = 0; i < 400; ++i) {
        const double phi = i * 2.399963, r = radius * std::sqrt((i + 0.5) / 400);
        const Vec2 p = b.center_px + r * Vec2(std::cos(phi), std::sin(phi));
        const auto da = ma.unproject(p), db = mb.unproject(p);
        if (da && db) worst = std::max(worst, degrees(std::asin(std::min(1.0, da->cross(*db).norm()))));
    }
    return worst;
}
} // namespace

TEST_CASE("lenses project as OpenCV's pinhole and fisheye models do, all terms included") {
    Lens lens = uneven_pinhole();
    lens.radial = {0.31, 0.02, 0.004, 0};
    lens.non_radial.denominator = {0.42, 0.03, 0.001};
    lens.non_radial.prism = {0.0012, -0.0004, -0.0009, 0.0003};
    REQUIRE(!fault_in(lens));
    const LensMap map(lens);
    std::vector<cv::Point3d> points;
    std::mt19937 random(3);
    std::uniform_real_distribution<double> unit(-0.55, 0.55);
    for (int i = 0; i < 300; ++i) points.push_back({unit(random), unit(random), 1});
    const cv::Matx33d k(lens.focal_px, 0, lens.center_px.x() - 0.5, 0, lens.focal_px * lens.non_radial.aspect,
                        lens.center_px.y() - 0.5, 0, 0, 1);
    const auto& r = lens.radial;
    const auto& u = lens.non_radial;
    const std::vector<double> d = {r[0],
                                   r[1],
                                   u.tangential[0],
                                   u.tangential[1],
                                   r[2],
                                   u.denominator[0],
                                   u.denominator[1],
                                   u.denominator[2],
                                   u.prism[0],
                                   u.prism[1],
                                   u.prism[2],
                                   u.prism[3]};
    std::vector<cv::Point2d> seen;
    cv::projectPoints(points, cv::Vec3d(0, 0, 0), cv::Vec3d(0, 0, 0), k, d, seen);
    for (std::size_t i = 0; i < points.size(); ++i) {
        const Vec3 ray(points[i].x, points[i].y, 1);
        const Vec2 p = map.project_anywhere(ray);
        REQUIRE(p.x() == Approx(seen[i].x + 0.5).epsilon(0).margin(1e-9));
        REQUIRE(p.y() == Approx(seen[i].y + 0.5).epsilon(0).margin(1e-9));
        if (const auto back = map.unproject(p)) REQUIRE((*back - ray.normalized()).norm() < 1e-9);
    }

    Lens wide = fisheye(1500, 196);
    wide.focal_px = 430, wide.radial = {0.021, -0.004, 0.0011, -0.0002};
    wide.non_radial.aspect = 0.998, wide.non_radial.skew = 0.002, wide.center_px += Vec2(7.2, -3.9);
    REQUIRE(!fault_in(wide));
    const LensMap wide_map(wide);
    const cv::Matx33d kw(430, 0, wide.center_px.x() - 0.5, 0, 430 * 0.998, wide.center_px.y() - 0.5, 0, 0, 1);
    cv::fisheye::projectPoints(points, seen, cv::Affine3d(), kw, cv::Vec4d(wide.radial.data()), 0.002);
    for (std::size_t i = 0; i < points.size(); ++i) {
        const Vec2 p = wide_map.project_anywhere(Vec3(points[i].x, points[i].y, 1));
        REQUIRE((p - Vec2(seen[i].x + 0.5, seen[i].y + 0.5)).norm() < 1e-9);
    }
}

TEST_CASE("a calibration survives its file exactly, single and pair, in all three forms") {
    for (const auto format : kFormats) {
        Calibration one;
        one.lenses = {uneven_pinhole()};
        one.rms_px = 0.123456789012345678;
        Calibration pair;
        pair.lenses = {fisheye(1200, 195), fisheye(1200, 189)};
        pair.lenses[0].radial = {0.01, -0.002, 0.0003, 1e-5};
        pair.lenses[1].pixel_pitch_um = pair.lenses[0].pixel_pitch_um = 2.4;
        pair.second_pose = Pose{{179.2, 0.7, -1.3}, Vec3(0.0011, -0.0002, -0.0241)};
        for (const Calibration& c : {one, pair}) {
            const std::string text = calibration_text(c, format);
            const Calibration back = parse_calibration(text, "c", {});
            REQUIRE(back.lenses.size() == c.lenses.size());
            for (std::size_t i = 0; i < c.lenses.size(); ++i) {
                const Lens &a = c.lenses[i], &b = back.lenses[i];
                CHECK(a.projection == b.projection);
                CHECK(a.radial == b.radial);
                CHECK(a.non_radial.tangential == b.non_radial.tangential);
                CHECK(a.focal_px == b.focal_px);
                CHECK(a.non_radial.aspect == Approx(b.non_radial.aspect).epsilon(1e-15));
                CHECK((a.center_px - b.center_px).norm() < 1e-12);
                CHECK((a.circle.center_px - b.circle.center_px).norm() < 1e-12);
                CHECK(a.circle.radius_px == b.circle.radius_px);
                CHECK(worst_angle(a, b, 400) < 1e-6);
            }
            CHECK(back.rms_px == c.rms_px);
            CHECK(back.remarks.empty());
            if (c.second_pose) {
                REQUIRE(back.second_pose);
                CHECK((rotation_of(back.second_pose->turn) - rotation_of(c.second_pose->turn)).norm() <
                      1e-14);
                CHECK((back.second_pose->position_m - c.second_pose->position_m).norm() < 1e-15);
            }
            // A second trip changes nothing at all (a rotation's angles may, in their last bit).
            if (!c.second_pose)
                CHECK(calibration_text(parse_calibration(calibration_text(back, format), "c", {}), format) ==
                      calibration_text(back, format));
        }
    }
}

TEST_CASE("a pinhole calibration that OpenCV made from rendered boards gives the same rays", "[slow]") {
    const Lens truth = uneven_pinhole();
    const Boards boards = photographed(truth, 0.62, 0.16);
    REQUIRE(boards.corners.size() >= 10);
    cv::Mat k, d;
    std::vector<cv::Mat> turns, places;
    const double rms =
        cv::calibrateCamera(boards.objects, boards.corners, {truth.width, truth.height}, k, d, turns, places);
    CHECK(rms < 0.25);
    for (const char* ending : {".yml", ".xml", ".json"}) {
        const auto c =
            parse_calibration(stored(k, d, 0, rms, {truth.width, truth.height}, ending), "board", {});
        REQUIRE(c.lenses.size() == 1);
        CHECK(c.lenses[0].projection == Projection::rectilinear);
        // The same rays as OpenCV's own undistortion of the same numbers ...
        const LensMap map(c.lenses[0]);
        std::vector<cv::Point2d> pixels, rays;
        for (int i = 0; i < 200; ++i) pixels.push_back({50 + 2.7 * i, 40 + std::fmod(37.0 * i, 400)});
        cv::undistortPoints(pixels, rays, k, d, cv::noArray(), cv::noArray(),
                            cv::TermCriteria(cv::TermCriteria::EPS + cv::TermCriteria::COUNT, 200, 1e-13));
        for (std::size_t i = 0; i < pixels.size(); ++i)
            if (const auto ray = map.unproject(Vec2(pixels[i].x + 0.5, pixels[i].y + 0.5)))
                REQUIRE((*ray - Vec3(rays[i].x, rays[i].y, 1).normalized()).norm() < 1e-7);
        // ... and near the truth that was photographed.
        CHECK(worst_angle(c.lenses[0], truth, 210) < 0.2);
        CHECK(c.rms_px == Approx(rms));
    }
}

TEST_CASE("a fisheye calibration that OpenCV made from rendered boards gives the same rays", "[slow]") {
    Lens truth = fisheye(600, 190);
    truth.radial = {0.018, -0.006, 0.001, 0};
    truth.center_px += Vec2(4.3, -2.6);
    const Boards boards = photographed(truth, 0.2, 0.12);
    REQUIRE(boards.corners.size() >= 10);
    std::vector<std::vector<cv::Point3d>> objects;
    std::vector<std::vector<cv::Point2d>> corners;
    for (std::size_t i = 0; i < boards.corners.size(); ++i) {
        objects.emplace_back(boards.objects[i].begin(), boards.objects[i].end());
        corners.emplace_back(boards.corners[i].begin(), boards.corners[i].end());
    }
    cv::Mat k, d;
    std::vector<cv::Mat> turns, places;
    const double rms =
        cv::fisheye::calibrate(objects, corners, {600, 600}, k, d, turns, places,
                               cv::fisheye::CALIB_RECOMPUTE_EXTRINSIC | cv::fisheye::CALIB_FIX_SKEW);
    CHECK(rms < 0.4);
    const auto c = parse_calibration(stored(k, d, 1, rms, {600, 600}, ".yml"), "board", {});
    REQUIRE(c.lenses[0].projection == Projection::equidistant);
    CHECK(worst_angle(c.lenses[0], truth, 165) < 0.3);
    const LensMap map(c.lenses[0]);
    std::vector<cv::Point3d> points;
    for (int i = 0; i < 50; ++i) points.push_back({0.03 * (i - 25), 0.01 * (i % 7), 0.6});
    std::vector<cv::Point2d> seen;
    cv::fisheye::projectPoints(points, seen, cv::Affine3d(), k, d);
    for (std::size_t i = 0; i < points.size(); ++i)
        CHECK((map.project_anywhere(Vec3(points[i].x, points[i].y, points[i].z)) -
               Vec2(seen[i].x + 0.5, seen[i].y + 0.5))
                  .norm() < 1e-8);
}

TEST_CASE("a stereo pair stands where OpenCV's R and T put it") {
    // A point of camera 1's axes is R x + T in camera 2's; ours must agree.
    const std::string text = "%YAML:1.0\n---\nimage_size: [ 800, 600 ]\nmodel: pinhole\n"
                             "M1: [ [700, 0, 399.5], [0, 700, 299.5], [0, 0, 1] ]\nD1: [ 0, 0, 0, 0, 0 ]\n"
                             "M2: [ [710, 0, 401], [0, 709, 298], [0, 0, 1] ]\nD2: [ 0, 0, 0, 0, 0 ]\n"
                             "R: [ [0.9998477, 0, -0.0174524], [0, 1, 0], [0.0174524, 0, 0.9998477] ]\n"
                             "T: [ -63.5, 0.4, 1.1 ]\n";
    const auto c = parse_calibration(text, "pair", {});
    REQUIRE(c.second_pose);
    REQUIRE(c.remarks.size() == 1); // millimetres
    const Vec3 x(0.3, -0.2, 2.0);
    Mat3 r;
    r << 0.9998477, 0, -0.0174524, 0, 1, 0, 0.0174524, 0, 0.9998477;
    const Vec3 by_opencv = r * x + Vec3(-0.0635, 0.0004, 0.0011);
    const Vec3 ours = rotation_of(c.second_pose->turn).transpose() * (x - c.second_pose->position_m);
    CHECK((by_opencv - ours).norm() < 1e-6);
}

TEST_CASE("kinds the models lack are fitted closely or refused, never bent in silence") {
    Calibration c;
    c.lenses = {fisheye(1000, 160, Projection::equisolid)};
    const auto back = parse_calibration(calibration_text(c, CalibrationFormat::yaml), "c", {});
    CHECK(worst_angle(back.lenses[0], c.lenses[0], 490) < 0.02);
    Lens odd = uneven_pinhole();
    odd.radial[3] = 0.001;
    c.lenses = {odd};
    CHECK(error_of([&] { calibration_text(c, CalibrationFormat::xml); }).find("fourth") != std::string::npos);
    c.lenses = {fisheye(1000, 180), uneven_pinhole()};
    CHECK(error_of([&] { calibration_text(c, CalibrationFormat::xml); }).find("different kinds") !=
          std::string::npos);
}

TEST_CASE("damaged calibrations are refused, each with a clear message") {
    const std::string head = "%YAML:1.0\n---\nimage_width: 640\nimage_height: 480\n";
    const std::string good_k = "camera_matrix: [ 500, 0, 320, 0, 500, 240, 0, 0, 1 ]\n",
                      good_d = "distortion_coefficients: [ 0, 0, 0, 0, 0 ]\n";
    CHECK(parse_calibration(head + good_k + good_d, "ok", {}).lenses.size() == 1);
    const std::pair<std::string, std::string> cases[] = {
        {"", "is empty"},
        {"just words", "calibration"},
        {head, "no camera matrix"},
        {good_k + good_d, "size of its pictures"},
        {head + "camera_matrix: [ 500, 0, 320 ]\n" + good_d, "holds 3 numbers"},
        {head + "camera_matrix: [ 500, 0, 320, 0, -500, 240, 0, 0, 1 ]\n" + good_d, "above 0"},
        {head + "camera_matrix: [ 500, 0, 320, 7, 500, 240, 0, 0, 1 ]\n" + good_d, "is not [fx"},
        {head + "camera_matrix: [ .Nan, 0, 320, 0, 500, 240, 0, 0, 1 ]\n" + good_d, "not finite"},
        {head + "camera_matrix: oh\n" + good_d, "not a list"},
        {head + good_k + "distortion_coefficients: [ 0, 0, 0 ]\n", "holds 3 numbers"},
        {head + good_k + "distortion_coefficients: [ 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0.1, 0 ]\n",
         "tilted"},
        {head + good_k + "distortion_coefficients: [ -9, 0, 0, 0, 0 ]\n", ""},
        {head + "distortion_model: thin_lens\n" + good_k + good_d, "not known"},
        {"image_width: 640.5\nimage_height: 480\n" + good_k + good_d, "whole pixels"},
        {"image_width: 640\n" + good_k + good_d, "image_height"},
        {head + "M1: [ 500, 0, 320, 0, 500, 240, 0, 0, 1 ]\nM2: [ 500, 0, 320, 0, 500, 240, 0, 0, 1 ]\nR: [ "
                "1, 0, 0, 0, 1, 0, 0, 0, 2 ]\nT: [ 0, 0, 0 ]\n",
         "not a rotation"},
        {head + "M1: [ 500, 0, 320, 0, 500, 240, 0, 0, 1 ]\nM2: [ 500, 0, 320, 0, 500, 240, 0, 0, 1 ]\nR: [ "
                "1, 0, 0, 0, 1, 0, 0, 0, 1 ]\n",
         "'T' is missing"},
        {"<?xml version=\"1.0\"?><opencv_storage><camera_matrix>", "damaged XML"},
        {"{ \"camera_matrix\": [1, 2, ", ""},
    };
    for (const auto& [text, expected] : cases) {
        INFO(text);
        if (expected.empty() && text.find("-9") != text.npos) {
            // Strong pincushion still has a use near its centre: the circle is shrunk and said to be.
            CHECK(!parse_calibration(text, "file.yml", {}).remarks.empty());
            continue;
        }
        const std::string message = error_of([&, t = text] { parse_calibration(t, "file.yml", {}); });
        CHECK(message.find("file.yml") != std::string::npos);
        CHECK(message.find(expected) != std::string::npos);
    }
    // A stated circle that the model does not grow to is not shrunk behind anybody's back.
    CHECK(error_of([&] {
              parse_calibration(
                  head + good_k +
                      "distortion_coefficients: [ -1, 0, 0, 0, 0 ]\nimage_circle: [ 320, 240, 390 ]\n",
                  "c", {});
          }).find("stops growing") != std::string::npos);
    // A good file cut at a hundred places, and with a byte changed at a hundred places, loads or says why.
    for (const auto format : kFormats) {
        Calibration c;
        c.lenses = {fisheye(1200, 195), fisheye(1200, 189)};
        c.second_pose = Pose{{180, 0, 0}, Vec3(0, 0, -0.02)};
        const std::string text = calibration_text(c, format);
        int refused = 0;
        for (std::size_t i = 0; i < 100; ++i) {
            std::string cut = text.substr(0, text.size() * i / 100), changed = text;
            changed[changed.size() * i / 100] ^= 0x15;
            for (const auto& t : {cut, changed}) try {
                    for (const auto& lens : parse_calibration(t, "f", {}).lenses) REQUIRE(!fault_in(lens));
                } catch (const Error& e) {
                    CHECK(e.message().size() > 20);
                    ++refused;
                }
        }
        CHECK(refused > 60);
    }
}
