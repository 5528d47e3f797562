#include "optics/calibration.h"

#include "base/error.h"
#include "base/file.h"
#include "optics/calibration_tree.h"

#include <Eigen/LU>
#include <Eigen/QR>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <opencv2/core.hpp>

#include <array>

namespace porb {

namespace {

constexpr std::uint64_t kLargestFile = 4u << 20;
constexpr double kHalfPixel = 0.5;       // OpenCV counts pixel centres in whole numbers
constexpr double kLikelyMillimetres = 5; // a baseline above this many units is not metres

struct Reading {
    const Json root;
    const std::string& where;

    [[noreturn]] void refuse(const std::string& entry, const std::string& what,
                             const std::string& mend) const {
        throw Error("'" + entry + "' " + what, where, mend);
    }
    /// The first entry of those names, or nullptr.
    std::pair<const Json*, std::string> find(std::initializer_list<const char*> names) const {
        for (const char* name : names)
            if (const auto it = root.find(name); it != root.end()) return {&*it, name};
        return {nullptr, {}};
    }
    /// Numbers of a matrix, a list, or a list of lists, row by row.
    std::vector<double> numbers(const Json& value, const std::string& name, std::size_t most,
                                int depth = 0) const {
        const bool matrix = value.is_object();
        if (matrix && !(value.contains("data") && (value["data"].is_array() || value["data"].is_number())))
            refuse(name, "holds no data", "A matrix has rows, cols, dt and data");
        const Json& list = matrix ? value["data"] : value;
        if (!list.is_array()) {
            if (!list.is_number()) refuse(name, "is not a list of numbers", "Write numbers");
            const double v = list.get<double>();
            if (!std::isfinite(v)) refuse(name, "holds a number that is not finite", "Calibrate again");
            return {v};
        }
        std::vector<double> out;
        for (const auto& item : list) {
            if (depth > 2 || out.size() >= most)
                refuse(name, fmt::format("holds more than {} numbers", most), "See docs/calibration.md");
            const auto part = numbers(item, name, most, depth + 1);
            out.insert(out.end(), part.begin(), part.end());
        }
        return out;
    }
};

/// Which entries of the file one lens is made of.
struct LensEntries {
    const Json *matrix = nullptr, *terms = nullptr;
    std::string matrix_name, terms_name;
};

enum class Model { pinhole, fisheye, unsaid };

Model stated_model(const Reading& in) {
    if (const auto [node, name] = in.find({"fisheye_model", "fisheye"}); node) {
        if (!node->is_number() && !node->is_boolean())
            in.refuse(name, "is not 0 or 1", "Write 1 for the fisheye model");
        return (node->is_boolean() ? node->get<bool>() : node->get<double>() != 0) ? Model::fisheye
                                                                                   : Model::pinhole;
    }
    if (const auto [node, name] = in.find({"distortion_model", "camera_model", "model"}); node) {
        const std::string text = node->is_string() ? node->get<std::string>() : std::string();
        if (text.find("fisheye") != text.npos || text == "equidistant" || text == "kannala_brandt")
            return Model::fisheye;
        if (text.find("pinhole") != text.npos || text == "plumb_bob" || text == "rational_polynomial" ||
            text == "radtan")
            return Model::pinhole;
        in.refuse(name, "names the model '" + text.substr(0, 60) + "', which is not known here",
                  "Use fisheye or pinhole");
    }
    return Model::unsaid;
}

std::pair<int, int> picture_size(const Reading& in, const CalibrationHint& hint) {
    double width = hint.width, height = hint.height;
    std::string name = "image_width";
    if (const auto [w, wn] = in.find({"image_width", "imageWidth", "width"}); w) {
        const auto [h, hn] = in.find({"image_height", "imageHeight", "height"});
        if (!h) in.refuse("image_height", "is missing", "Write the height of the calibrated pictures");
        width = in.numbers(*w, wn, 1).at(0);
        height = in.numbers(*h, hn, 1).at(0);
        name = wn;
    } else if (const auto [size, sn] = in.find({"image_size", "imageSize", "image_Size", "size"}); size) {
        const auto v = in.numbers(*size, sn, 2);
        if (v.size() != 2) in.refuse(sn, "must hold width and height", "Write [width, height]");
        width = v[0], height = v[1];
        name = sn;
    }
    if (width == 0 || height == 0)
        throw Error("says nothing of the size of its pictures", in.where,
                    "Add image_width and image_height, or choose the camera's source first");
    if (width != std::floor(width) || height != std::floor(height) || width < 1 || height < 1 ||
        width > 65536 || height > 65536)
        in.refuse(name, fmt::format("gives a picture of {} x {}", width, height),
                  "Use whole pixels, 1 to 65536");
    return {int(width), int(height)};
}

/// When nobody says how much the glass fills: a fisheye's circle is taken to touch the nearer edges, a
/// pinhole's to hold the corners; then shrunk to where the model grows.
void guess_circle(Lens& lens, bool fisheye, std::vector<std::string>& remarks) {
    const Vec2 c = lens.center_px;
    const double to_edge =
        std::max({std::min(c.x(), lens.width - c.x()), std::min(c.y(), lens.height - c.y()), 1.0});
    double corner = 0;
    for (const double x : {0.0, double(lens.width)})
        for (const double y : {0.0, double(lens.height)}) corner = std::max(corner, (Vec2(x, y) - c).norm());
    lens.circle = {c, fisheye ? to_edge : corner};
    if (!fault_in(lens)) return;
    double low = 1, high = lens.circle.radius_px;
    for (int i = 0; i < 50; ++i) {
        lens.circle.radius_px = 0.5 * (low + high);
        (fault_in(lens) ? high : low) = lens.circle.radius_px;
    }
    lens.circle.radius_px = low * (1 - 1e-9);
    remarks.push_back(
        fmt::format("the model grows only to {:.0f} px from its centre; the image circle ends there",
                    lens.circle.radius_px));
}

void take_terms(Lens& lens, const Reading& in, const LensEntries& e, bool fisheye) {
    std::vector<double> d = in.numbers(*e.terms, e.terms_name, 14);
    if (fisheye) {
        if (d.size() != 4)
            in.refuse(e.terms_name, fmt::format("holds {} numbers", d.size()),
                      "The fisheye model has four: k1, k2, k3, k4");
        std::copy(d.begin(), d.end(), lens.radial.begin());
        return;
    }
    if (d.size() != 0 && d.size() != 4 && d.size() != 5 && d.size() != 8 && d.size() != 12 && d.size() != 14)
        in.refuse(e.terms_name, fmt::format("holds {} numbers", d.size()),
                  "The pinhole model has 4, 5, 8 or 12: k1, k2, p1, p2, k3, k4, k5, k6, s1 to s4");
    if (d.size() == 14 && (d[12] != 0 || d[13] != 0))
        in.refuse(e.terms_name, "holds the two terms of a tilted sensor, which are not read here",
                  "Calibrate without the tilted model");
    d.resize(14);
    lens.radial = {d[0], d[1], d[4], 0};
    lens.non_radial.tangential = {d[2], d[3]};
    lens.non_radial.denominator = {d[5], d[6], d[7]};
    lens.non_radial.prism = {d[8], d[9], d[10], d[11]};
}

Lens lens_from(const Reading& in, const LensEntries& e, Model model, std::size_t index,
               const CalibrationHint& hint, std::vector<std::string>& remarks) {
    Lens lens;
    std::tie(lens.width, lens.height) = picture_size(in, hint);
    const auto k = in.numbers(*e.matrix, e.matrix_name, 9);
    if (k.size() != 9)
        in.refuse(e.matrix_name, fmt::format("holds {} numbers", k.size()), "A camera matrix is 3 by 3");
    if (k[3] != 0 || k[6] != 0 || k[7] != 0 || std::abs(k[8] - 1) > 1e-9)
        in.refuse(e.matrix_name, "is not [fx, skew, cx; 0, fy, cy; 0, 0, 1]", "Write the matrix row by row");
    if (!(k[0] > 0) || !(k[4] > 0))
        in.refuse(e.matrix_name, "has a focal length that is not above 0", "fx and fy are in pixels");
    bool fisheye = model == Model::fisheye;
    if (model == Model::unsaid) {
        const std::size_t count = !e.terms ? 0 : in.numbers(*e.terms, e.terms_name, 14).size();
        fisheye = count == 4 && hint.fisheye;
        if (count == 4)
            remarks.push_back(
                std::string("the file does not say which model its four terms belong to; taken as ") +
                (fisheye ? "fisheye" : "pinhole"));
    }
    lens.projection = fisheye ? Projection::equidistant : Projection::rectilinear;
    lens.focal_px = k[0];
    lens.non_radial.aspect = k[4] / k[0];
    lens.non_radial.skew = k[1] / k[0];
    lens.center_px = {k[2] + kHalfPixel, k[5] + kHalfPixel};
    if (e.terms) take_terms(lens, in, e, fisheye);
    const std::string circle_name = index == 0 ? "image_circle" : "image_circle_2";
    const auto [circle, found] = in.find({circle_name.c_str()});
    if (circle) {
        const auto c = in.numbers(*circle, found, 3);
        if (c.size() != 3) in.refuse(found, "must hold three numbers", "Write [centre x, centre y, radius]");
        lens.circle = {{c[0] + kHalfPixel, c[1] + kHalfPixel}, c[2]};
    } else {
        lens.circle = {lens.center_px, 1};
        if (const auto fault = fault_in(lens)) in.refuse(e.matrix_name, fault->what, fault->mend);
        guess_circle(lens, fisheye, remarks);
    }
    if (const auto [pitch, pn] = in.find({"pixel_pitch_um"}); pitch)
        lens.pixel_pitch_um = in.numbers(*pitch, pn, 1).at(0);
    if (const auto fault = fault_in(lens))
        in.refuse(fault->member == "radial" ? e.terms_name : e.matrix_name, fault->what, fault->mend);
    return lens;
}

Pose second_pose_from(const Reading& in, std::vector<std::string>& remarks) {
    const auto [r_node, r_name] = in.find({"R", "rotation", "R12"});
    const auto [t_node, t_name] = in.find({"T", "translation", "T12"});
    if (!t_node) in.refuse("T", "is missing", "A stereo pair has R and T");
    const auto r = in.numbers(*r_node, r_name, 9);
    const auto t = in.numbers(*t_node, t_name, 3);
    if (r.size() != 9) in.refuse(r_name, fmt::format("holds {} numbers", r.size()), "A rotation is 3 by 3");
    if (t.size() != 3)
        in.refuse(t_name, fmt::format("holds {} numbers", t.size()), "A translation is three numbers");
    Mat3 turn;
    for (int i = 0; i < 9; ++i) turn(i / 3, i % 3) = r[std::size_t(i)];
    if ((turn * turn.transpose() - Mat3::Identity()).norm() > 1e-4 || turn.determinant() < 0)
        in.refuse(r_name, "is not a rotation", "Its rows are three unit vectors at right angles");
    Vec3 shift(t[0], t[1], t[2]);
    if (shift.norm() > kLikelyMillimetres) {
        shift /= 1000;
        remarks.push_back("the distance between the cameras was taken as millimetres");
    }
    if (shift.norm() > 100) in.refuse(t_name, "sets the cameras far apart", "Use metres or millimetres");
    // OpenCV has x2 = R x1 + T; ours is where camera 2 stands and looks in camera 1's axes.
    return {turn_of(turn.transpose()), -(turn.transpose() * shift)};
}

} // namespace

std::optional<CalibrationFormat> calibration_format_of(const std::filesystem::path& path) {
    const std::string e = path.extension().string();
    if (e == ".yml" || e == ".yaml") return CalibrationFormat::yaml;
    if (e == ".xml") return CalibrationFormat::xml;
    if (e == ".json") return CalibrationFormat::json;
    return std::nullopt;
}

Calibration parse_calibration(std::string_view text, const std::string& where, const CalibrationHint& hint) {
    if (text.size() > kLargestFile) throw Error("is too large for a calibration", where, "At most 4 MB");
    const Reading in{calibration_tree(text, where), where};
    if (!in.root.is_object())
        throw Error("holds no named entries", where,
                    "A calibration has camera_matrix and distortion_coefficients");
    Calibration out;
    const Model model = stated_model(in);
    const auto entries = [&](std::initializer_list<const char*> matrix,
                             std::initializer_list<const char*> terms) {
        LensEntries e;
        std::tie(e.matrix, e.matrix_name) = in.find(matrix);
        std::tie(e.terms, e.terms_name) = in.find(terms);
        return e;
    };
    const LensEntries single =
        entries({"camera_matrix", "cameraMatrix", "Camera_Matrix", "K", "mtx", "intrinsic_matrix"},
                {"distortion_coefficients", "distCoeffs", "Distortion_Coefficients", "D", "dist"});
    const LensEntries first = entries({"M1", "K1", "cameraMatrix1", "camera_matrix_1"},
                                      {"D1", "distCoeffs1", "distortion_coefficients_1"});
    const LensEntries second = entries({"M2", "K2", "cameraMatrix2", "camera_matrix_2"},
                                       {"D2", "distCoeffs2", "distortion_coefficients_2"});
    if (first.matrix && second.matrix) {
        out.lenses.push_back(lens_from(in, first, model, 0, hint, out.remarks));
        out.lenses.push_back(lens_from(in, second, model, 1, hint, out.remarks));
        if (const auto [r, name] = in.find({"R", "rotation", "R12"}); r)
            out.second_pose = second_pose_from(in, out.remarks);
        else
            out.remarks.push_back("the file does not say where the second camera stands; its pose stays");
    } else if (single.matrix) {
        out.lenses.push_back(lens_from(in, single, model, 0, hint, out.remarks));
    } else {
        throw Error("holds no camera matrix", where,
                    "Expected an entry camera_matrix, or M1 and M2 for a pair, as OpenCV writes them");
    }
    if (const auto [rms, name] = in.find({"avg_reprojection_error", "rms", "reprojection_error"}); rms)
        out.rms_px = in.numbers(*rms, name, 1).at(0);
    return out;
}

Calibration load_calibration(const std::filesystem::path& path, const CalibrationHint& hint) {
    return parse_calibration(read_text_file(path, kLargestFile), path.string(), hint);
}

namespace {

/// The four terms of the equidistant model nearest to another kind of lens, by least squares over its circle.
Lens as_equidistant(const Lens& lens) {
    const LensMap map(lens);
    constexpr int kSteps = 400;
    Eigen::Matrix<double, kSteps, 5> a;
    Eigen::Matrix<double, kSteps, 1> b;
    for (int i = 0; i < kSteps; ++i) {
        const double t = map.theta_max() * (i + 1) / kSteps, q = t * t;
        double power = t;
        for (int j = 0; j < 5; ++j, power *= q) a(i, j) = power;
        b(i) = map.radius(t);
    }
    const Eigen::Matrix<double, 5, 1> x = a.colPivHouseholderQr().solve(b);
    Lens out = lens;
    out.projection = Projection::equidistant;
    out.focal_px = x(0);
    for (std::size_t j = 0; j < 4; ++j) out.radial[j] = x(Eigen::Index(j) + 1) / x(0);
    double worst = 0;
    for (int i = 0; i < kSteps; ++i) worst = std::max(worst, std::abs(a.row(i).dot(x) - b(i)));
    if (worst > 0.05)
        throw Error(fmt::format("{} lens misses the fisheye model's four terms by {:.2f} px",
                                name_of(lens.projection), worst),
                    "calibration", "Write a rig file instead: it holds every kind of lens");
    return out;
}

void write_lens(cv::FileStorage& out, const Lens& lens, const std::string& matrix, const std::string& terms,
                const std::string& circle) {
    const double fx = lens.focal_px;
    const cv::Mat k =
        (cv::Mat_<double>(3, 3) << fx, fx * lens.non_radial.skew, lens.center_px.x() - kHalfPixel, 0,
         fx * lens.non_radial.aspect, lens.center_px.y() - kHalfPixel, 0, 0, 1);
    out << matrix << k;
    const auto& r = lens.radial;
    const auto& u = lens.non_radial;
    std::vector<double> d;
    if (lens.projection == Projection::equidistant) {
        d.assign(r.begin(), r.end());
    } else {
        d = {r[0], r[1], u.tangential[0], u.tangential[1], r[2]};
        const bool prism = u.prism != std::array<double, 4>{};
        if (prism || u.denominator != std::array<double, 3>{})
            d.insert(d.end(), u.denominator.begin(), u.denominator.end());
        if (prism) d.insert(d.end(), u.prism.begin(), u.prism.end());
    }
    out << terms << cv::Mat(d, true);
    out << circle << "[" << lens.circle.center_px.x() - kHalfPixel << lens.circle.center_px.y() - kHalfPixel
        << lens.circle.radius_px << "]";
}

Lens writable(const Lens& lens) {
    if (lens.projection == Projection::rectilinear) {
        if (lens.radial[3] != 0)
            throw Error("has a fourth distortion term, which the pinhole model has not", "calibration",
                        "Set k4 to 0, or write a rig file");
        return lens;
    }
    if (lens.non_radial.bends() || lens.non_radial.denominator != std::array<double, 3>{})
        throw Error("has uneven terms, which the fisheye model has not", "calibration",
                    "Write a rig file instead");
    return lens.projection == Projection::equidistant ? lens : as_equidistant(lens);
}

} // namespace

std::string calibration_text(const Calibration& c, CalibrationFormat format) {
    const int how = format == CalibrationFormat::yaml  ? cv::FileStorage::FORMAT_YAML
                    : format == CalibrationFormat::xml ? cv::FileStorage::FORMAT_XML
                                                       : cv::FileStorage::FORMAT_JSON;
    std::vector<Lens> lenses;
    for (const auto& lens : c.lenses) lenses.push_back(writable(lens));
    if (lenses.empty() || lenses.size() > 2)
        throw Error("holds one or two lenses", "calibration", "Choose one camera or a pair");
    if (lenses.size() == 2 && (lenses[0].projection != lenses[1].projection ||
                               lenses[0].width != lenses[1].width || lenses[0].height != lenses[1].height))
        throw Error("has two lenses of different kinds or sizes", "calibration", "Write one file for each");
    cv::FileStorage out(format == CalibrationFormat::json  ? ".json"
                        : format == CalibrationFormat::xml ? ".xml"
                                                           : ".yml",
                        cv::FileStorage::WRITE | cv::FileStorage::MEMORY | how);
    out << "image_width" << lenses[0].width << "image_height" << lenses[0].height;
    out << "fisheye_model" << (lenses[0].projection == Projection::equidistant ? 1 : 0);
    if (lenses.size() == 1) {
        write_lens(out, lenses[0], "camera_matrix", "distortion_coefficients", "image_circle");
    } else {
        write_lens(out, lenses[0], "M1", "D1", "image_circle");
        write_lens(out, lenses[1], "M2", "D2", "image_circle_2");
        if (c.second_pose) {
            const Mat3 turn = rotation_of(c.second_pose->turn).transpose();
            const Vec3 shift = -(turn * c.second_pose->position_m);
            cv::Mat r(3, 3, CV_64F), t(3, 1, CV_64F);
            for (int i = 0; i < 9; ++i) r.at<double>(i / 3, i % 3) = turn(i / 3, i % 3);
            for (int i = 0; i < 3; ++i) t.at<double>(i) = shift(i);
            out << "R" << r << "T" << t;
        }
    }
    if (lenses[0].pixel_pitch_um > 0) out << "pixel_pitch_um" << lenses[0].pixel_pitch_um;
    if (c.rms_px) out << "avg_reprojection_error" << *c.rms_px;
    return out.releaseAndGetString();
}

void save_calibration(const Calibration& calibration, const std::filesystem::path& path) {
    const auto format = calibration_format_of(path);
    if (!format)
        throw Error("is not a calibration we write", path.string(), "End the name in .yml, .xml or .json");
    write_file_atomically(path, calibration_text(calibration, *format));
}

Calibration calibration_of(const Rig& rig, std::string_view first, std::string_view second) {
    const auto must_find = [&](std::string_view id) -> const Camera& {
        const Camera* c = find_camera(rig, id);
        if (!c)
            throw Error("the rig has no camera '" + std::string(id) + "'", rig.name,
                        "Choose one of its cameras");
        return *c;
    };
    const Camera& a = must_find(first);
    Calibration out;
    out.lenses.push_back(a.lens);
    if (second.empty()) return out;
    const Camera& b = must_find(second);
    out.lenses.push_back(b.lens);
    const Mat3 back = rotation_of(a.pose.turn).transpose();
    out.second_pose =
        Pose{turn_of(back * rotation_of(b.pose.turn)), back * (b.pose.position_m - a.pose.position_m)};
    return out;
}

} // namespace porb
