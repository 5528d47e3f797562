#include "stitch/patches/warp.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "stitch/patches/sampler.h"
#include "stitch/plan/plan_lens.h"

namespace porb {

namespace {

/// Columns and rows of a view's region that may show a cone about a direction.
struct Span2 {
    int x0, y0, x1, y1;
};
Span2 bounds(const View& view, const Region& region, const Vec3& about, double cone) {
    const Span2 all{0, 0, region.width, region.height};
    if (view.target.kind != TargetKind::equirect) return all;
    const double lat = std::asin(std::clamp(-about.normalized().y(), -1.0, 1.0)),
                 lon = std::atan2(about.x(), about.z());
    const double h = view.target.height, w = view.target.width;
    Span2 out = all;
    out.y0 = std::clamp(int(std::floor((0.5 - (lat + cone) / kPi) * h)) - 1 - region.y, 0, region.height);
    out.y1 = std::clamp(int(std::ceil((0.5 - (lat - cone) / kPi) * h)) + 1 - region.y, 0, region.height);
    if (std::abs(lat) + cone < kPi / 2) {
        const double wide = std::asin(std::min(1.0, std::sin(cone) / std::cos(lat)));
        if (std::abs(lon) + wide < kPi) {
            out.x0 = std::clamp(int(std::floor(((lon - wide) / (2 * kPi) + 0.5) * w)) - 1 - region.x, 0,
                                region.width);
            out.x1 = std::clamp(int(std::ceil(((lon + wide) / (2 * kPi) + 0.5) * w)) + 1 - region.x, 0,
                                region.width);
        }
    }
    return out;
}

/// Which parts of the square show other tiles than before, or everything.
bool changed(const TileImage& now, const TileImage& before, std::vector<Vec2>& corners, double margin) {
    if (now.width() != before.width() || now.height() != before.height() || now.empty())
        return now.empty() != before.empty() || !now.empty();
    const double side = std::max(now.width(), now.height());
    for (int ty = 0; ty < now.down(); ++ty)
        for (int tx = 0; tx < now.across(); ++tx) {
            if (now.tile(tx, ty) == before.tile(tx, ty)) continue;
            const auto place = [&](int t, int size) { return (2.0 * t * Tile::kSide - size) / side; };
            corners.push_back({place(tx, now.width()) - margin, place(ty, now.height()) - margin});
            corners.push_back({place(tx + 1, now.width()) + margin, place(ty + 1, now.height()) + margin});
        }
    return false;
}

void find_runs(PatchWarp& warp) {
    constexpr Half kOne = 0x3C00;
    const int height = warp.straight.height(), width = warp.straight.width();
    std::vector<std::vector<PatchWarp::Run>> rows;
    rows.resize(std::size_t(height));
    parallel_ranges(height, 32, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            const Half* alpha = warp.straight.row(y) + 3;
            for (int x = 0; x < width;) {
                const Half a = alpha[4 * x];
                int to = x + 1;
                if (a == 0) {
                    while (to < width && alpha[4 * to] == 0) ++to;
                } else if (a == kOne) {
                    while (to < width && alpha[4 * to] == kOne) ++to;
                    rows[std::size_t(y)].push_back({x, to, true});
                } else {
                    while (to < width && alpha[4 * to] != 0 && alpha[4 * to] != kOne) ++to;
                    rows[std::size_t(y)].push_back({x, to, false});
                }
                x = to;
            }
        }
    });
    for (const auto& r : rows) {
        warp.row.push_back(warp.runs.size());
        warp.runs.insert(warp.runs.end(), r.begin(), r.end());
    }
    warp.row.push_back(warp.runs.size());
}

} // namespace

PatchWarp warp_patch(const WarpKey& key, const PatchContent& content, const PatchWarp* before,
                     BufferPool* pool) {
    constexpr int kBlock = PatchWarp::kBlock;
    PatchWarp out;
    out.content = content;
    if (content.pixels.is_clear()) return out;
    const PatchPlacement& place = key.placement;
    const Vec3 about = place.to_patch.transpose().col(2);
    const Region region = whole_region(key.view);
    const double cone = cone_of(place);
    const Span2 span = bounds(key.view, region, about, cone);
    if (span.x1 <= span.x0 || span.y1 <= span.y0) return out;
    out.x = span.x0, out.y = span.y0;
    const int width = span.x1 - span.x0, height = span.y1 - span.y0;
    const int across = (width + kBlock - 1) / kBlock, down = (height + kBlock - 1) / kBlock;

    const double feather = radians(key.feather_deg) / place.half_width; // in halves of the square's side
    const TargetMap map(key.view.target);
    const double own = 2 * place.half_width / std::max(content.pixels.width(), content.pixels.height());
    const int level = std::max(0, int(std::lround(std::log2(map.pixel_angle() / own) - 0.15)));
    // Where it differs from `before`.
    std::vector<Vec2> others;
    bool anew = !before || before->straight.width() != width || before->straight.height() != height ||
                before->x != out.x || before->y != out.y;
    if (!anew) {
        const double reach = 6.0 * (1 << level) / content.pixels.width() * 2;
        anew = changed(content.pixels, before->content.pixels, others, reach);
        if (!(content.mask.empty() && before->content.mask.empty()))
            anew |= changed(content.mask, before->content.mask, others, 2 * feather + reach);
    }
    const TileSampler colours(content.pixels, level);
    std::optional<SoftMask> mask;
    if (!content.mask.empty()) mask.emplace(content.mask, feather);
    const double x_end = double(content.pixels.width()) /
                         std::max(content.pixels.width(), content.pixels.height()),
                 y_end = double(content.pixels.height()) /
                         std::max(content.pixels.width(), content.pixels.height());
    const double near = std::cos(std::min(cone, kPi / 2));
    out.blocks.resize(std::size_t(across) * std::size_t(down));
    out.straight = Picture(width, height, pool);
    parallel_ranges(down, 1, [&](int from, int to) {
        for (int by = from; by < to; ++by) {
            const int y0 = by * kBlock, y1 = std::min(height, y0 + kBlock);
            for (int y = y0; y < y1 && !anew; ++y)
                std::copy_n(before->straight.row(y), std::size_t(width) * 4, out.straight.row(y));
            for (int bx = 0; bx < across; ++bx) {
                PatchWarp::Seen& seen = out.blocks[std::size_t(by * across + bx)];
                if (!anew) {
                    seen = before->blocks[std::size_t(by * across + bx)];
                    bool touched = false;
                    for (std::size_t i = 0; i + 1 < others.size() && !touched; i += 2)
                        touched = seen.u1 >= others[i].x() && seen.u0 <= others[i + 1].x() &&
                                  seen.v1 >= others[i].y() && seen.v0 <= others[i + 1].y();
                    if (!touched) continue;
                }
                const int x1 = std::min(width, (bx + 1) * kBlock);
                for (int y = y0; y < y1; ++y) {
                    Half* to_pixel = out.straight.row(y) + 4 * bx * kBlock;
                    for (int x = bx * kBlock; x < x1; ++x, to_pixel += 4) {
                        std::fill_n(to_pixel, 4, Half(0));
                        const auto d =
                            map.direction({x + out.x + region.x + 0.5, y + out.y + region.y + 0.5});
                        if (!d || d->dot(about) < near) continue;
                        const auto at = square_place(place, *d);
                        if (!at || std::abs(at->x()) >= x_end || std::abs(at->y()) >= y_end) continue;
                        seen.u0 = std::min(seen.u0, float(at->x())),
                        seen.u1 = std::max(seen.u1, float(at->x()));
                        seen.v0 = std::min(seen.v0, float(at->y())),
                        seen.v1 = std::max(seen.v1, float(at->y()));
                        const double inside =
                            content.disc ? 1 - at->norm()
                                         : std::min(x_end - std::abs(at->x()), y_end - std::abs(at->y()));
                        if (inside <= 0) continue;
                        double alpha = feather > 0 ? smooth(inside / feather) : 1;
                        if (mask) alpha *= mask->at(*at);
                        if (alpha <= 0) continue;
                        auto c = colours.at<4>(colours.pixel(*at));
                        c[3] = std::clamp(c[3], 0.0f, 1.0f);
                        if (c[3] < 1e-4f) continue;
                        for (std::size_t k = 0; k < 3; ++k) to_pixel[k] = half_from_float(c[k] / c[3]);
                        to_pixel[3] = half_from_float(float(c[3] * alpha));
                    }
                }
            }
        }
    });
    find_runs(out);
    return out;
}

} // namespace porb
