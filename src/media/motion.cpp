#include "media/motion.h"

#include "base/error.h"
#include "base/file.h"
#include "media/av.h"
#include "media/mp4_boxes.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <fstream>

namespace porb {

namespace {

constexpr std::uint64_t kLargestTable = 512u << 20;
constexpr std::size_t kMostSamples = 20'000'000;
constexpr double kMostSeconds = 1e7;

/// A list of the record, its name in tables and its packet type in CAMM.
struct Kind {
    const char* name;
    std::vector<MotionSample> MotionRecord::*list;
    int camm_type;
};
constexpr Kind kKinds[] = {
    {"orientation", &MotionRecord::orientation, 0},   {"gyro", &MotionRecord::gyro, 2},
    {"acceleration", &MotionRecord::acceleration, 3}, {"position", &MotionRecord::position, 4},
    {"magnetic", &MotionRecord::magnetic, 7},         {"place", &MotionRecord::place, 5},
};
constexpr std::size_t kKindCount = std::size(kKinds);
constexpr int kCammPlace = 5, kCammExposure = 1, kCammFullPlace = 6;

template <class T>
T little_endian(std::string_view bytes) {
    static_assert(std::endian::native == std::endian::little);
    T v;
    std::memcpy(&v, bytes.data(), sizeof v);
    return v;
}
template <class T>
std::string bytes_of_little(T v) {
    std::string s(sizeof v, '\0');
    std::memcpy(s.data(), &v, sizeof v);
    return s;
}

void must_be_in_order(const MotionRecord& record, const std::string& where) {
    for (const auto& kind : kKinds) {
        const auto& list = record.*kind.list;
        if (!std::is_sorted(list.begin(), list.end(),
                            [](const MotionSample& a, const MotionSample& b) { return a.time_s < b.time_s; }))
            throw Error(std::string("its ") + kind.name + " samples are not in order of time", where,
                        "Sort the record by its times");
    }
}

std::vector<std::string_view> cells_of(std::string_view line) {
    std::vector<std::string_view> cells;
    while (true) {
        const auto comma = line.find(',');
        std::string_view cell = line.substr(0, comma);
        while (!cell.empty() && (cell.front() == ' ' || cell.front() == '\t')) cell.remove_prefix(1);
        while (!cell.empty() && (cell.back() == ' ' || cell.back() == '\t' || cell.back() == '\r'))
            cell.remove_suffix(1);
        cells.push_back(cell);
        if (comma == line.npos) return cells;
        line.remove_prefix(comma + 1);
    }
}

double number_of(std::string_view cell, int line, const std::string& where) {
    double v = 0;
    const auto [end, error] = std::from_chars(cell.data(), cell.data() + cell.size(), v);
    if (error != std::errc() || end != cell.data() + cell.size() || !std::isfinite(v))
        throw Error(fmt::format("'{}' is not a number", cell.substr(0, 40)),
                    fmt::format("{} line {}", where, line), "Write digits, or leave the cell empty");
    return v;
}

} // namespace

MotionRecord parse_motion_csv(std::string_view text, const std::string& where) {
    MotionRecord record;
    int time_column = -1, line_number = 0;
    std::array<std::array<int, 3>, kKindCount> columns;
    for (auto& c : columns) c = {-1, -1, -1};
    std::size_t column_count = 0;
    while (!text.empty()) {
        const auto end = text.find('\n');
        std::string_view line = text.substr(0, end);
        text.remove_prefix(end == text.npos ? text.size() : end + 1);
        ++line_number;
        if (line.ends_with('\r')) line.remove_suffix(1);
        if (line.empty() || line.starts_with('#')) continue;
        const auto cells = cells_of(line);
        if (column_count == 0) {
            column_count = cells.size();
            if (column_count > 200)
                throw Error("has more than 200 columns", where, "Keep the time and the vectors");
            for (std::size_t i = 0; i < cells.size(); ++i) {
                if (cells[i] == "time_s") time_column = int(i);
                for (std::size_t k = 0; k < kKindCount; ++k)
                    for (std::size_t a = 0; a < 3; ++a)
                        if (cells[i] == fmt::format("{}_{}", kKinds[k].name, "xyz"[a]))
                            columns[k][a] = int(i);
            }
            if (time_column < 0)
                throw Error("has no column time_s", where,
                            "Name the columns in the first line; see docs/motion.md");
            bool any = false;
            for (std::size_t k = 0; k < kKindCount; ++k) {
                const int named =
                    int(std::count_if(columns[k].begin(), columns[k].end(), [](int c) { return c >= 0; }));
                if (named != 0 && named != 3)
                    throw Error(fmt::format("has {} of the three columns of {}", named, kKinds[k].name),
                                where, fmt::format("Name {0}_x, {0}_y and {0}_z", kKinds[k].name));
                any = any || named == 3;
            }
            if (!any)
                throw Error("names no motion: no gyro_x, orientation_x, acceleration_x ...", where,
                            "Name the columns in the first line; see docs/motion.md");
            continue;
        }
        if (cells.size() != column_count)
            throw Error(fmt::format("has {} cells, its first line {}", cells.size(), column_count),
                        fmt::format("{} line {}", where, line_number), "The table may be cut short here");
        const double t = number_of(cells[std::size_t(time_column)], line_number, where);
        if (std::abs(t) > kMostSeconds)
            throw Error("has a time that cannot be", fmt::format("{} line {}", where, line_number),
                        "Write seconds");
        for (std::size_t k = 0; k < kKindCount; ++k) {
            if (columns[k][0] < 0 || cells[std::size_t(columns[k][0])].empty()) continue;
            MotionSample sample{t, {}};
            for (std::size_t a = 0; a < 3; ++a)
                sample.value[a] = number_of(cells[std::size_t(columns[k][a])], line_number, where);
            (record.*kKinds[k].list).push_back(sample);
            if (record.size() > kMostSamples)
                throw Error("holds too many samples", where, "Cut the record to the take");
        }
    }
    if (record.size() == 0) throw Error("holds no samples", where, "Record the motion again");
    must_be_in_order(record, where);
    return record;
}

std::string motion_csv(const MotionRecord& record) {
    std::string text = "time_s";
    std::vector<const Kind*> used;
    for (const auto& kind : kKinds)
        if (!(record.*kind.list).empty()) {
            used.push_back(&kind);
            for (const char a : {'x', 'y', 'z'}) text += fmt::format(",{}_{}", kind.name, a);
        }
    text += "\n";
    std::vector<std::size_t> next(used.size(), 0);
    while (true) { // the lists merged by time
        double t = 1e300;
        for (std::size_t k = 0; k < used.size(); ++k)
            if (const auto& list = record.*used[k]->list; next[k] < list.size())
                t = std::min(t, list[next[k]].time_s);
        if (t == 1e300) return text;
        text += fmt::format("{}", t);
        for (std::size_t k = 0; k < used.size(); ++k) {
            const auto& list = record.*used[k]->list;
            if (next[k] < list.size() && list[next[k]].time_s == t) {
                const auto& v = list[next[k]++].value;
                text += fmt::format(",{},{},{}", v[0], v[1], v[2]);
            } else {
                text += ",,,";
            }
        }
        text += "\n";
    }
}

void add_camm_packet(MotionRecord& record, std::string_view packet, double t, const std::string& where) {
    const auto must_hold = [&](std::size_t bytes) {
        if (packet.size() < 4 + bytes)
            throw Error(fmt::format("its motion packet at {:.3f} s is cut short: {} of {} bytes", t,
                                    packet.size(), 4 + bytes),
                        where, "Copy the file from the camera again");
    };
    must_hold(0);
    const int type = little_endian<std::uint16_t>(packet.substr(2));
    MotionSample sample{t, {}};
    std::vector<MotionSample>* list = nullptr;
    if (type == kCammExposure) return; // of single rows; nothing here uses it
    if (type == kCammPlace || type == kCammFullPlace) {
        const std::size_t first = type == kCammPlace ? 4 : 16; // after a time and the kind of fix
        must_hold(type == kCammPlace ? 24 : 56);
        for (std::size_t a = 0; a < 2; ++a)
            sample.value[a] = little_endian<double>(packet.substr(first + 8 * a));
        sample.value[2] = type == kCammPlace ? little_endian<double>(packet.substr(20))
                                             : double(little_endian<float>(packet.substr(32)));
        list = &record.place;
    } else {
        for (const auto& kind : kKinds)
            if (kind.camm_type == type) list = &(record.*kind.list);
        if (!list) {
            ++record.unknown_packets;
            return;
        }
        must_hold(12);
        for (std::size_t a = 0; a < 3; ++a)
            sample.value[a] = double(little_endian<float>(packet.substr(4 + 4 * a)));
    }
    for (const double v : sample.value)
        if (!std::isfinite(v))
            throw Error(fmt::format("its motion packet at {:.3f} s holds a number that is not finite", t),
                        where, "Copy the file from the camera again");
    if (list->size() > kMostSamples)
        throw Error("holds too many motion samples", where, "Cut the file to the take");
    list->push_back(sample);
}

namespace {
int camm_stream(const AVFormatContext& format) {
    for (unsigned i = 0; i < format.nb_streams; ++i)
        if (format.streams[i]->codecpar->codec_tag == MKTAG('c', 'a', 'm', 'm')) return int(i);
    return -1;
}

MotionRecord load_camm(const std::filesystem::path& path) {
    const av::Format format = av::open_input(path);
    const int index = camm_stream(*format);
    if (index < 0)
        throw Error("has no motion track", path.string(), "Choose a file with a CAMM track, or a CSV table");
    for (unsigned i = 0; i < format->nb_streams; ++i)
        format->streams[i]->discard = int(i) == index ? AVDISCARD_DEFAULT : AVDISCARD_ALL;
    const AVStream& stream = *format->streams[index];
    MotionRecord record;
    const av::Packet packet = av::make_packet();
    while (av_read_frame(format.get(), packet.get()) >= 0) {
        if (packet->stream_index == index && packet->pts != AV_NOPTS_VALUE) {
            const double t = double(packet->pts) * av_q2d(stream.time_base);
            add_camm_packet(record, {reinterpret_cast<const char*>(packet->data), std::size_t(packet->size)},
                            t, path.string());
        }
        av_packet_unref(packet.get());
    }
    if (record.size() == 0)
        throw Error("its motion track holds no samples", path.string(),
                    "Copy the file from the camera again");
    for (const auto& kind : kKinds) // packets of one moment may come in any order
        std::stable_sort((record.*kind.list).begin(), (record.*kind.list).end(),
                         [](const MotionSample& a, const MotionSample& b) { return a.time_s < b.time_s; });
    return record;
}

constexpr std::uint32_t kCammScale = 1'000'000; // ticks a second

/// The track's boxes: a 'meta' handler with a 'camm' entry, every sample a chunk's part in one chunk.
std::string camm_track(const std::vector<std::pair<std::uint64_t, std::string>>& samples, std::uint32_t id,
                       std::uint64_t first_byte, std::uint32_t movie_scale) {
    using namespace mp4;
    const auto u32 = [](std::uint64_t v) { return bytes_of(v, 4); };
    const std::uint64_t duration = samples.back().first + 1;
    std::string deltas, sizes;
    std::uint32_t runs = 0, run = 0;
    std::uint64_t run_delta = 0;
    const auto flush = [&] {
        if (run) deltas += u32(run) + u32(run_delta), ++runs;
    };
    for (std::size_t i = 0; i < samples.size(); ++i) {
        const std::uint64_t delta = i + 1 < samples.size() ? samples[i + 1].first - samples[i].first : 1;
        if (run && delta == run_delta) {
            ++run;
        } else {
            flush();
            run = 1, run_delta = delta;
        }
        sizes += u32(samples[i].second.size());
    }
    flush();
    const std::string entry = box("camm", std::string(6, '\0') + bytes_of(1, 2));
    const std::string stbl =
        box("stbl", full_box("stsd", u32(1) + entry) + full_box("stts", u32(runs) + deltas) +
                        full_box("stsc", u32(1) + u32(1) + u32(samples.size()) + u32(1)) +
                        full_box("stsz", u32(0) + u32(samples.size()) + sizes) +
                        full_box("co64", u32(1) + bytes_of(first_byte, 8)));
    const std::string url = box("url ", std::string("\0\0\0\1", 4));
    const std::string minf =
        box("minf", full_box("nmhd", "") + box("dinf", full_box("dref", u32(1) + url)) + stbl);
    const std::string hdlr =
        full_box("hdlr", u32(0) + "meta" + std::string(12, '\0') + std::string("Camera motion") + '\0');
    const std::string mdhd =
        box("mdhd", std::string("\1\0\0\0", 4) + std::string(16, '\0') + u32(kCammScale) +
                        bytes_of(duration, 8) + bytes_of(0x55c4, 2) + bytes_of(0, 2));
    std::string matrix;
    for (const std::uint32_t v : {0x10000u, 0u, 0u, 0u, 0x10000u, 0u, 0u, 0u, 0x40000000u}) matrix += u32(v);
    const std::string tkhd = box("tkhd", std::string("\1\0\0\3", 4) + std::string(16, '\0') + u32(id) +
                                             u32(0) + bytes_of(duration * movie_scale / kCammScale, 8) +
                                             std::string(16, '\0') + matrix + std::string(8, '\0'));
    return box("trak", tkhd + box("mdia", mdhd + hdlr + minf));
}
} // namespace

MotionRecord load_motion(const std::filesystem::path& path) {
    std::string ending = path.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(),
                   [](unsigned char c) { return char(std::tolower(c)); });
    if (ending == ".csv") return parse_motion_csv(read_text_file(path, kLargestTable), path.string());
    return load_camm(path);
}

bool has_motion_track(const std::filesystem::path& path) {
    try {
        return camm_stream(*av::open_input(path)) >= 0;
    } catch (const std::exception&) {
        return false;
    }
}

void write_camm_track(const std::filesystem::path& movie, const MotionRecord& record) {
    using namespace mp4;
    must_be_regular_file(movie);
    std::ifstream in(movie, std::ios::binary);
    const MovieHeader header = find_movie_header(in);
    if (!header.found || header.size > kLargestHeader || header.fragmented)
        throw Error("has no plain movie header", movie.string(),
                    "Only complete MP4 and MOV files take a motion track");
    const std::string moov = read_movie_header(in, header);
    in.close();
    std::vector<std::pair<std::uint64_t, std::string>> samples;
    for (const auto& kind : kKinds)
        for (const auto& s : record.*kind.list) {
            if (s.time_s < 0) continue; // before the first picture: nothing a player could ask for
            std::string packet = std::string(2, '\0') + bytes_of_little(std::uint16_t(kind.camm_type));
            for (const double v : s.value)
                packet += kind.camm_type == kCammPlace ? bytes_of_little(v) : bytes_of_little(float(v));
            samples.push_back({std::uint64_t(std::llround(s.time_s * kCammScale)), std::move(packet)});
        }
    if (samples.empty()) throw Error("has no motion to write", movie.string(), "Give a record with samples");
    std::stable_sort(samples.begin(), samples.end(),
                     [](const auto& a, const auto& b) { return a.first < b.first; });
    // The first sample stands at the start of the track, whatever its time.
    samples.front().first = 0;
    const auto top = boxes_in(moov);
    if (top.size() != 1 || top[0].type != "moov")
        throw Error("its movie header is damaged", movie.string(), "Render or copy the file again");
    std::uint32_t next_id = 1, scale = 1000;
    for (const auto& b : boxes_in(top[0].body)) {
        if (b.type == "mvhd" && b.body.size() >= 100) {
            const bool wide = b.body[0] == 1;
            scale = std::uint32_t(big_endian(b.body.substr(wide ? 20 : 12, 4)));
        }
        if (b.type == "trak") {
            const auto tkhd = child(b.body, "tkhd");
            if (tkhd && tkhd->size() >= 24)
                next_id = std::max(next_id,
                                   std::uint32_t(big_endian(tkhd->substr((*tkhd)[0] == 1 ? 20 : 12, 4))) + 1);
        }
    }
    std::string data;
    for (const auto& [time, packet] : samples) data += packet;
    const std::string mdat = box("mdat", data);
    const std::string trak = camm_track(samples, next_id, append_offset(header) + 8, scale);
    replace_movie_header(movie, header, mdat,
                         rebuilt(
                             top[0], 0, [](const Box& b) { return std::string(b.whole); }, trak));
}

} // namespace porb
