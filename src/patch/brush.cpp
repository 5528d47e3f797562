#include "patch/brush.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "patch/fill.h"
#include "patch/outline.h"
#include "stitch/patches/sampler.h"

namespace porb {

namespace {
constexpr double kSpacing = 0.16;   ///< from dab to dab, of the diameter
constexpr double kFreshEvery = 1.1; ///< diameters after which a wandering source moves on

Rgba over(const Rgba& top, const Rgba& below) {
    const float k = 1 - top.a;
    return {top.r + k * below.r, top.g + k * below.g, top.b + k * below.b, top.a + k * below.a};
}
Rgba mixed(const Rgba& a, const Rgba& b, float share) {
    const float k = 1 - share;
    return {k * a.r + share * b.r, k * a.g + share * b.g, k * a.b + share * b.b, k * a.a + share * b.a};
}
Rgba value(const Half* p) {
    return {float_from_half(p[0]), float_from_half(p[1]), float_from_half(p[2]), float_from_half(p[3])};
}
void write(Half* to, const Rgba& v) {
    to[0] = half_from_float(v.r), to[1] = half_from_float(v.g), to[2] = half_from_float(v.b),
    to[3] = half_from_float(v.a);
}
} // namespace

struct Stroke::Samplers {
    std::optional<TileSampler> start, under;
};

Stroke::~Stroke() = default;
Stroke::Stroke(Stroke&&) noexcept = default;

Stroke::Stroke(TileImage layer, TileImage under, const Brush& brush, const Vec2& from, const Vec2& to,
               std::span<const Vec2> selection)
    : layer_(std::move(layer)), start_(layer_), under_(std::move(under)),
      cover_(layer_.width(), layer_.height(), 1),
      sources_(brush.kind == BrushKind::heal ? layer_.width() : 0,
               brush.kind == BrushKind::heal ? layer_.height() : 0, 4),
      brush_(brush), from_(from), to_(to), random_(brush.seed), samplers_(std::make_unique<Samplers>()) {
    if (brush.kind == BrushKind::clone || brush.kind == BrushKind::heal) {
        samplers_->start.emplace(start_, 0);
        if (!under_.empty()) samplers_->under.emplace(under_, 0);
    }
    selection_.assign(selection.begin(), selection.end());
}

Vec2 Stroke::source_of(const Vec2& at) const {
    Vec2 way = at - to_;
    if (brush_.source_mirrored) way.x() = -way.x();
    const double a = radians(brush_.source_turn_deg), c = std::cos(a), s = std::sin(a);
    return from_ + wandered_ +
           brush_.source_scale * Vec2(c * way.x() - s * way.y(), s * way.x() + c * way.y());
}

Rgba Stroke::seen(double x, double y) const {
    const auto of = [&](const std::optional<TileSampler>& sampler) {
        if (!sampler) return Rgba();
        const auto v = sampler->at<4>({x, y});
        return Rgba{v[0], v[1], v[2], std::clamp(v[3], 0.0f, 1.0f)};
    };
    return over(of(samplers_->start), of(samplers_->under));
}

void Stroke::add(const StrokePoint& point) {
    const double pressure = std::clamp(point.pressure, 0.0, 1.0);
    const auto radius_of = [&](double p) {
        return std::max(0.5, brush_.size_px / 2 * (brush_.pressure_sizes ? std::max(0.05, p) : 1.0));
    };
    const auto strength_of = [&](double p) { return brush_.opacity * (brush_.pressure_sizes ? 1.0 : p); };
    if (!last_) {
        last_ = point;
        dab(point.at, radius_of(pressure), strength_of(pressure));
        left_ = std::max(0.7, kSpacing * 2 * radius_of(pressure));
        return;
    }
    const Vec2 way = point.at - last_->at;
    const double length = way.norm();
    double at = left_;
    while (at <= length) {
        const double share = at / length;
        const double p = last_->pressure + share * (pressure - last_->pressure);
        dab(last_->at + share * way, radius_of(p), strength_of(p));
        at += std::max(0.7, kSpacing * 2 * radius_of(p));
    }
    left_ = at - length;
    last_ = point;
}

void Stroke::dab(const Vec2& at, double radius, double strength) {
    // What is healed is joined along its edge: the source is needed a little beyond it.
    constexpr double kBeyond_px = 6;
    const bool heals = brush_.kind == BrushKind::heal;
    const double reach = radius + (heals ? kBeyond_px : 0);
    const int x0 = std::max(0, int(std::floor(at.x() - reach))),
              x1 = std::min(layer_.width(), int(std::ceil(at.x() + reach)) + 1);
    const int y0 = std::max(0, int(std::floor(at.y() - reach))),
              y1 = std::min(layer_.height(), int(std::ceil(at.y() + reach)) + 1);
    if (x1 <= x0 || y1 <= y0) return;
    const int width = x1 - x0, height = y1 - y0;
    const auto index = [&](int x, int y) {
        return std::size_t(y - y0) * std::size_t(width) + std::size_t(x - x0);
    };
    const std::vector<float> selected = outline_mask(selection_, {x0, y0, width, height});
    const double hard =
        std::min(1 - brush_.softness, 1 - 0.7 / std::max(radius, 0.7)); // a pixel's edge at least
    const auto falloff = [&](int x, int y) {
        const double r = (Vec2(x + 0.5, y + 0.5) - at).norm() / radius;
        if (r >= 1) return 0.0f;
        return float(strength * (r <= hard ? 1 : smooth((1 - r) / (1 - hard)))) *
               (selected.empty() ? 1.0f : selected[index(x, y)]);
    };
    if (brush_.fresh && (brush_.kind == BrushKind::clone || brush_.kind == BrushKind::heal)) {
        const double moved = (at - to_).norm();
        if (moved > kFreshEvery * brush_.size_px) { // the source moves on, and the stroke begins anew there
            const auto share = [&] { return double(random_() >> 8) / double(1 << 24); };
            const double turn = 2 * kPi * share(), far = brush_.fresh_reach_px * std::sqrt(share());
            to_ = at;
            wandered_ = far * Vec2(std::cos(turn), std::sin(turn));
        }
    }
    std::vector<Rgba> made(std::size_t(width) * std::size_t(height));
    std::vector<float> share(made.size());
    const bool cumulative =
        brush_.fresh || brush_.kind == BrushKind::smudge || brush_.kind == BrushKind::soften;
    parallel_ranges(height, 32, [&](int begin, int end) {
        TileImage::Reader under(under_), layer(layer_);
        for (int y = y0 + begin; y < y0 + end; ++y)
            for (int x = x0; x < x1; ++x) {
                float& k = share[index(x, y)];
                k = falloff(x, y);
                if (k <= 0 && !heals) continue;
                Rgba& v = made[index(x, y)];
                switch (brush_.kind) {
                case BrushKind::clone:
                case BrushKind::heal: {
                    const Vec2 s = source_of({x + 0.5, y + 0.5});
                    v = seen(s.x(), s.y());
                    // Past the edge of what is known nothing is taken.
                    if (v.a < 0.02f) k = 0;
                    break;
                }
                case BrushKind::paint:
                    v = {brush_.colour[0], brush_.colour[1], brush_.colour[2], 1};
                    break;
                case BrushKind::erase:
                    if (!under_.empty()) v = value(under.pixel(x, y));
                    break;
                case BrushKind::reveal:
                    v = {1, 1, 1, 1};
                    break;
                case BrushKind::soften: {
                    const int about = std::max(1, int(radius / 12));
                    Rgba sum;
                    int n = 0;
                    for (int j = -about; j <= about; ++j)
                        for (int i = -about; i <= about; ++i) {
                            const Rgba c = value(layer.pixel(std::clamp(x + i, 0, layer_.width() - 1),
                                                             std::clamp(y + j, 0, layer_.height() - 1)));
                            sum.r += c.r, sum.g += c.g, sum.b += c.b, sum.a += c.a, ++n;
                        }
                    v = {sum.r / float(n), sum.g / float(n), sum.b / float(n), sum.a / float(n)};
                    break;
                }
                case BrushKind::smudge: {
                    const int cx = int(std::lround(x - at.x() + carried_side_ / 2.0)),
                              cy = int(std::lround(y - at.y() + carried_side_ / 2.0));
                    const bool has =
                        !carried_.empty() && cx >= 0 && cy >= 0 && cx < carried_side_ && cy < carried_side_;
                    v = has ? carried_[std::size_t(cy * carried_side_ + cx)] : value(layer.pixel(x, y));
                    break;
                }
                case BrushKind::hide:
                    break;
                }
            }
    });
    if (brush_.kind == BrushKind::smudge) {
        constexpr float kTaken = 0.35f, kLaid = 0.75f;
        const int side = 2 * int(std::ceil(radius)) + 2;
        std::vector<Rgba> next(std::size_t(side) * std::size_t(side));
        TileImage::Reader layer(layer_);
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) {
                const int px = std::clamp(int(std::lround(at.x())) + x - side / 2, 0, layer_.width() - 1),
                          py = std::clamp(int(std::lround(at.y())) + y - side / 2, 0, layer_.height() - 1);
                const Rgba here = value(layer.pixel(px, py));
                const int ox = x + (carried_side_ - side) / 2, oy = y + (carried_side_ - side) / 2;
                const bool had =
                    !carried_.empty() && ox >= 0 && oy >= 0 && ox < carried_side_ && oy < carried_side_;
                next[std::size_t(y * side + x)] =
                    had ? mixed(carried_[std::size_t(oy * carried_side_ + ox)], here, kTaken) : here;
            }
        carried_ = std::move(next);
        carried_side_ = side;
        for (float& k : share) k *= kLaid;
    }
    if (heals) {
        TileImage::Edit sources(sources_);
        for (int y = y0; y < y1; ++y)
            for (int x = x0; x < x1; ++x) {
                Half* source = sources.pixel(x, y);
                // Later dabs take over where they cover; beside them what is known first stays.
                if (share[index(x, y)] > 0.05f || float_from_half(source[3]) < 0.5f)
                    write(source, made[index(x, y)]);
            }
    }
    TileImage::Edit layer(layer_), cover(cover_);
    TileImage::Reader start(start_);
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x) {
            const float k = share[index(x, y)];
            if (k <= 0) continue;
            const Rgba& v = made[index(x, y)];
            Half *here = layer.pixel(x, y), *covered = cover.pixel(x, y);
            const float most = std::max(float_from_half(*covered), k);
            *covered = half_from_float(most);
            if (layer_.channels() == 1) {
                const float from = float_from_half(*start.pixel(x, y));
                *here = half_from_float(from + most * (v.a - from));
            } else if (cumulative) {
                write(here, mixed(value(here), v, k));
            } else {
                write(here, mixed(value(start.pixel(x, y)), v, most));
            }
        }
}

void Stroke::finish() {
    if (brush_.kind != BrushKind::heal) return;
    // What was covered, and some of what lies about it.
    int x0 = layer_.width(), y0 = layer_.height(), x1 = 0, y1 = 0;
    for (int ty = 0; ty < cover_.down(); ++ty)
        for (int tx = 0; tx < cover_.across(); ++tx) {
            if (!cover_.tile(tx, ty)) continue;
            x0 = std::min(x0, tx * Tile::kSide), x1 = std::max(x1, (tx + 1) * Tile::kSide);
            y0 = std::min(y0, ty * Tile::kSide), y1 = std::max(y1, (ty + 1) * Tile::kSide);
        }
    if (x1 <= x0) return;
    constexpr int kAbout = 8;
    x0 = std::max(0, x0 - kAbout), y0 = std::max(0, y0 - kAbout);
    x1 = std::min(layer_.width(), x1 + kAbout), y1 = std::min(layer_.height(), y1 + kAbout);
    Picture cloned(x1 - x0, y1 - y0), around(x1 - x0, y1 - y0);
    std::vector<float> hole(std::size_t(x1 - x0) * std::size_t(y1 - y0));
    TileImage::Reader cover(cover_), under(under_), start(start_), sources(sources_);
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x) {
            const float k = float_from_half(*cover.pixel(x, y));
            const Rgba below = under_.empty() ? Rgba() : value(under.pixel(x, y));
            const Rgba before = over(value(start.pixel(x, y)), below);
            set_pixel(cloned, x - x0, y - y0, value(sources.pixel(x, y)));
            set_pixel(around, x - x0, y - y0, before);
            hole[std::size_t(y - y0) * std::size_t(x1 - x0) + std::size_t(x - x0)] = k > 0.05f ? 1.0f : 0.0f;
        }
    const Picture made = healed(cloned, around, hole);
    TileImage::Edit layer(layer_);
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x) {
            const float k = float_from_half(*cover.pixel(x, y));
            if (k <= 0) continue;
            write(layer.pixel(x, y), mixed(value(start.pixel(x, y)), pixel_at(made, x - x0, y - y0), k));
        }
}

TileImage revealed(const TileImage& mask, const TileImage& cover) {
    TileImage out = mask;
    TileImage::Edit edit(out);
    for (int ty = 0; ty < cover.down(); ++ty)
        for (int tx = 0; tx < cover.across(); ++tx) {
            const Tile* tile = cover.tile(tx, ty);
            if (!tile) continue;
            Half* to = edit.square(tx, ty);
            const Half* from = tile->pixels();
            // Halves that are not negative order as their bits do.
            for (std::size_t i = 0; i < tile->halves(); ++i) to[i] = std::max(to[i], from[i]);
        }
    return out;
}

TileImage stroked(const TileImage& layer, const TileImage& under, const Brush& brush, const Vec2& from,
                  std::span<const StrokePoint> points, std::span<const Vec2> selection) {
    if (points.empty()) return layer;
    Stroke stroke(layer, under, brush, from, points.front().at, selection);
    for (const StrokePoint& p : points) stroke.add(p);
    stroke.finish();
    return stroke.result();
}

} // namespace porb
