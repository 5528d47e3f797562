#include "app/stations/seams/shape_tool.h"

#include "app/widgets/arrow_keys.h"
#include "project/orientation.h"
#include "stitch/plan/shapes.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kNearPx = 9, kLeastBend = 0.006; ///< radii: a shorter drag sets a corner without handles
constexpr int kSteps = 16;

QString name_of(ShapeKind kind) {
    return kind == ShapeKind::distance ? "distance" : kind == ShapeKind::restore ? "restore" : "cut-out";
}
QColor colour_of(ShapeKind kind) {
    return kind == ShapeKind::distance  ? colour::accent
           : kind == ShapeKind::restore ? colour::good
                                        : colour::stop;
}

double apart(const QPointF& a, const QPointF& b) {
    return std::hypot(a.x() - b.x(), a.y() - b.y());
}
} // namespace

ShapeTool::ShapeTool(Session& session, PictureArea& picture, QObject* parent)
    : QObject(parent), session_(session), picture_(picture) {
    connect(&session_, &Session::selection_changed, this, [this] {
        if (drawing_ && camera() && camera()->id != on_) give_up();
        select(-1);
    });
    connect(&session_, &Session::project_changed, this, [this] {
        if (const ShotCamera* u = use(); selected_ >= 0 && (!u || selected_ >= int(u->shapes.size())))
            select(-1);
    });
}

const Camera* ShapeTool::camera() const {
    const Shot* shot = session_.shot();
    if (!shot || shot->rig.cameras.empty()) return nullptr;
    const Camera* c = find_camera(shot->rig, session_.selected_camera());
    return c ? c : &shot->rig.cameras.front();
}

const ShotCamera* ShapeTool::use() const {
    return camera() ? find_camera(*session_.shot(), camera()->id) : nullptr;
}

std::vector<ShapeCorner> ShapeTool::corners(int shape) const {
    const ShotCamera* u = use();
    if (!u || shape < 0 || shape >= int(u->shapes.size())) return {};
    return corners_at(u->shapes[std::size_t(shape)], session_.playhead());
}

void ShapeTool::begin(ShapeKind kind) {
    if (!camera()) return;
    if (picture_.mode() != ViewMode::lens && picture_.mode() != ViewMode::map &&
        picture_.mode() != ViewMode::window)
        picture_.set_mode(ViewMode::lens);
    drawing_ = true;
    kind_ = kind;
    draft_.clear();
    on_ = camera()->id;
    select(-1);
    picture_.setCursor(Qt::CrossCursor);
    picture_.setFocus();
    emit drawing_changed();
    picture_.update();
}

void ShapeTool::give_up() {
    drawing_ = false;
    draft_.clear();
    picture_.unsetCursor();
    emit drawing_changed();
    picture_.update();
}

void ShapeTool::select(int index) {
    if (selected_ == index) return;
    selected_ = index;
    corner_ = -1;
    emit selection_changed();
    picture_.update();
}

std::optional<QPointF> ShapeTool::screen_of(const Vec2& place) const {
    const Camera* c = camera();
    if (!c) return std::nullopt;
    if (picture_.mode() == ViewMode::lens)
        return picture_.lens_point(c->lens.circle.center_px + c->lens.circle.radius_px * place);
    const Shot& shot = *session_.shot();
    const auto d = shape_direction(*c, place, shot.seams.agree_distance_m);
    if (!d) return std::nullopt;
    return picture_.point_of(orientation_at(shot, session_.playhead()) * *d);
}

std::optional<Vec2> ShapeTool::place_of(const QPointF& at) const {
    const Camera* c = camera();
    if (!c) return std::nullopt;
    if (picture_.mode() == ViewMode::lens)
        return Vec2((picture_.lens_pixel(at) - c->lens.circle.center_px) / c->lens.circle.radius_px);
    const auto d = picture_.direction_at(at);
    if (!d) return std::nullopt;
    const Shot& shot = *session_.shot();
    return shape_place(*c, in_rig_axes(shot, session_.playhead(), *d), shot.seams.agree_distance_m);
}

ShapeTool::Hit ShapeTool::hit(const QPointF& at) const {
    if (const auto mine = corners(selected_); !mine.empty())
        for (int i = 0; i < int(mine.size()); ++i) {
            const ShapeCorner& c = mine[std::size_t(i)];
            const auto on = [&](const Vec2& place) {
                const auto s = screen_of(place);
                return s && apart(*s, at) < kNearPx;
            };
            if (i == corner_ && !c.after.isZero() && on(c.at + c.after)) return {Part::after, selected_, i};
            if (i == corner_ && !c.before.isZero() && on(c.at + c.before))
                return {Part::before, selected_, i};
            if (on(c.at)) return {Part::corner, selected_, i};
        }
    const auto place = place_of(at);
    const ShotCamera* u = use();
    if (!place || !u) return {};
    for (int s = int(u->shapes.size()) - 1; s >= 0; --s)
        if (const auto outline = outline_of(corners(s));
            outline.size() > 2 && inside_polygon(outline, *place) > 0)
            return {Part::whole, s, -1};
    return {};
}

bool ShapeTool::press(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton || !camera()) return false;
    const auto place = place_of(event->position());
    if (drawing_) {
        if (!place) {
            session_.say("Camera " + QString::fromStdString(on_) + " does not look there.", Signal::care);
            return true;
        }
        if (draft_.size() >= kFewestCorners)
            if (const auto first = screen_of(draft_.front().at);
                first && apart(*first, event->position()) < kNearPx) {
                close();
                return true;
            }
        if (draft_.size() < kMostCorners) draft_.push_back({*place, {0, 0}, {0, 0}});
        grip_ = {Part::after, -1, int(draft_.size()) - 1};
        picture_.update();
        return true;
    }
    grip_ = hit(event->position());
    if (grip_.part == Part::none) {
        select(-1);
        return false;
    }
    select(grip_.shape);
    if (grip_.part == Part::corner) corner_ = grip_.corner;
    grip_at_ = place;
    grip_corners_ = corners(selected_);
    picture_.update();
    return true;
}

bool ShapeTool::move(QMouseEvent* event) {
    hover_ = event->position();
    if (drawing_) picture_.update();
    if (grip_.part == Part::none) return drawing_;
    const auto place = place_of(event->position());
    if (!place) return true;
    if (drawing_) {
        ShapeCorner& c = draft_.back();
        const Vec2 bend = *place - c.at;
        c.after = bend.norm() < kLeastBend ? Vec2(0, 0) : bend;
        c.before = -c.after;
        picture_.update();
        return true;
    }
    if (!grip_at_) return true;
    auto next = grip_corners_;
    const Vec2 by = *place - *grip_at_;
    const auto i = std::size_t(std::max(0, grip_.corner));
    switch (grip_.part) {
    case Part::whole:
        for (auto& c : next) c.at += by;
        break;
    case Part::corner:
        next[i].at += by;
        break;
    case Part::after:
        next[i].after = *place - next[i].at;
        if (!(event->modifiers() & Qt::AltModifier)) next[i].before = -next[i].after;
        break;
    case Part::before:
        next[i].before = *place - next[i].at;
        if (!(event->modifiers() & Qt::AltModifier)) next[i].after = -next[i].before;
        break;
    case Part::none:
        break;
    }
    edit_corners("Reshape " + QString::fromStdString(use()->shapes[std::size_t(selected_)].name), next,
                 "shape-drag");
    return true;
}

bool ShapeTool::release(QMouseEvent*) {
    if (grip_.part == Part::none) return drawing_;
    if (!drawing_) session_.end_drag();
    grip_ = {};
    return true;
}

bool ShapeTool::double_click(QMouseEvent* event) {
    if (drawing_) {
        if (draft_.size() > kFewestCorners) draft_.pop_back(); // the double click's first press set one
        close();
        return true;
    }
    const auto place = place_of(event->position());
    const auto mine = corners(selected_);
    if (!place || mine.empty()) return false;
    // A corner more where the outline passes nearest, or one fewer where one is.
    if (const Hit on = hit(event->position()); on.part == Part::corner) {
        if (mine.size() <= kFewestCorners) {
            session_.say("A shape keeps three corners at least; Delete removes it whole.", Signal::care);
            return true;
        }
        session_.edit_shot("Remove a corner", [&](Shot& s) {
            for (auto& c : s.cameras)
                if (c.camera == camera()->id)
                    for (auto& k : c.shapes[std::size_t(selected_)].keys)
                        k.corners.erase(k.corners.begin() + on.corner);
        });
        corner_ = -1;
        return true;
    }
    std::size_t after = 0;
    double nearest = 1e9;
    const auto outline = outline_of(mine, kSteps);
    std::size_t side = 0, left = 0;
    for (const Vec2& q : outline) {
        if (left == 0) {
            const ShapeCorner &a = mine[side % mine.size()], &b = mine[(side + 1) % mine.size()];
            left = a.after.isZero() && b.before.isZero() ? 1 : kSteps;
            ++side;
        }
        --left;
        if (const double d = (q - *place).norm(); d < nearest) nearest = d, after = side - 1;
    }
    for (std::size_t i = 0; i < mine.size(); ++i) { // straight sides have no places between
        const Vec2 &a = mine[i].at, &b = mine[(i + 1) % mine.size()].at;
        const double t =
            std::clamp((*place - a).dot(b - a) / std::max(1e-12, (b - a).squaredNorm()), 0.0, 1.0);
        if (const double d = (a + t * (b - a) - *place).norm(); d < nearest) nearest = d, after = i;
    }
    session_.edit_shot("Add a corner", [&](Shot& s) {
        for (auto& c : s.cameras)
            if (c.camera == camera()->id)
                for (auto& k : c.shapes[std::size_t(selected_)].keys) {
                    const Vec2 middle =
                        (k.corners[after].at + k.corners[(after + 1) % k.corners.size()].at) / 2;
                    k.corners.insert(k.corners.begin() + std::ptrdiff_t(after) + 1,
                                     {c.shapes[std::size_t(selected_)].keys.size() == 1 ? *place : middle,
                                      {0, 0},
                                      {0, 0}});
                }
    });
    corner_ = int(after) + 1;
    return true;
}

bool ShapeTool::key(QKeyEvent* event) {
    if (drawing_) {
        switch (event->key()) {
        case Qt::Key_Escape:
            give_up();
            return true;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            close();
            return true;
        case Qt::Key_Backspace:
            if (!draft_.empty()) draft_.pop_back();
            picture_.update();
            return true;
        default:
            return false;
        }
    }
    if (selected_ < 0) return false;
    switch (event->key()) {
    case Qt::Key_Escape:
        select(-1);
        return true;
    case Qt::Key_Delete:
    case Qt::Key_Backspace:
        remove_selected();
        return true;
    default:
        break;
    }
    const auto arrow = arrow_of(*event);
    if (!arrow) return false;
    const Vec2 by = (event->modifiers() & Qt::ShiftModifier ? 0.001 : 0.01) * *arrow;
    auto next = corners(selected_);
    for (std::size_t i = 0; i < next.size(); ++i)
        if (corner_ < 0 || int(i) == corner_) next[i].at += by;
    edit_corners("Nudge a shape", next, "shape-nudge");
    return true;
}

void ShapeTool::close() {
    if (draft_.size() < kFewestCorners)
        return session_.say("A shape needs three corners at least: click where its outline runs.",
                            Signal::care);
    Shape shape;
    shape.restores = kind_ == ShapeKind::restore;
    if (kind_ == ShapeKind::distance) shape.distance = AreaDistance();
    shape.keys = {{session_.playhead(), draft_}};
    int index = 0;
    session_.edit_shot("Draw a " + name_of(kind_), [&](Shot& s) {
        for (auto& c : s.cameras)
            if (c.camera == on_) {
                index = int(c.shapes.size());
                shape.name = name_of(kind_).toStdString() + " " + std::to_string(index + 1);
                c.shapes.push_back(shape);
            }
    });
    give_up();
    select(index);
}

void ShapeTool::edit_corners(const QString& label, const std::vector<ShapeCorner>& next, const QString& key) {
    const Seconds now = session_.playhead();
    const std::string id = camera()->id;
    session_.edit_shot(
        label,
        [&](Shot& s) {
            for (auto& c : s.cameras) {
                if (c.camera != id) continue;
                auto& keys = c.shapes[std::size_t(selected_)].keys;
                if (keys.size() == 1) { // it does not move: wherever the playhead is, this is its outline
                    keys[0].corners = next;
                    continue;
                }
                auto at = std::find_if(keys.begin(), keys.end(),
                                       [now](const ShapeKey& k) { return k.time >= now; });
                if (at != keys.end() && at->time == now)
                    at->corners = next;
                else
                    keys.insert(at, {now, next});
            }
        },
        key);
}

void ShapeTool::toggle_key() {
    const auto now_corners = corners(selected_);
    if (now_corners.empty()) return session_.say("Select a shape first.", Signal::care);
    const Seconds now = session_.playhead();
    const std::string id = camera()->id;
    session_.edit_shot("Key of a shape", [&](Shot& s) {
        for (auto& c : s.cameras) {
            if (c.camera != id) continue;
            auto& keys = c.shapes[std::size_t(selected_)].keys;
            auto at =
                std::find_if(keys.begin(), keys.end(), [now](const ShapeKey& k) { return k.time >= now; });
            if (at == keys.end() || at->time != now)
                keys.insert(at, {now, now_corners});
            else if (keys.size() > 1)
                keys.erase(at);
        }
    });
}

void ShapeTool::remove_selected() {
    if (selected_ < 0 || !camera()) return;
    const std::string id = camera()->id;
    const int index = selected_;
    select(-1);
    session_.edit_shot("Remove a shape", [&](Shot& s) {
        for (auto& c : s.cameras)
            if (c.camera == id && index < int(c.shapes.size())) c.shapes.erase(std::size_t(index));
    });
}

void ShapeTool::stroke(QPainter& p, const std::vector<ShapeCorner>& corners, ShapeKind kind, bool chosen,
                       bool open) const {
    // In map view a shape may lie across the edge at 180 degrees: its line ends there and goes on at the
    // other.
    std::vector<QPolygonF> runs(1);
    auto outline = outline_of(corners, kSteps);
    if (!open && !outline.empty()) outline.push_back(outline.front());
    // Straight sides bend on the map: they are followed closely.
    for (std::size_t i = 0; i < outline.size(); ++i) {
        const int pieces = i == 0 ? 1 : std::max(1, int((outline[i] - outline[i - 1]).norm() / 0.02));
        for (int k = 1; k <= pieces; ++k) {
            const Vec2 q =
                i == 0 ? outline[0] : outline[i - 1] + double(k) / pieces * (outline[i] - outline[i - 1]);
            const auto at = screen_of(q);
            if (!at || (!runs.back().isEmpty() && apart(runs.back().last(), *at) > picture_.width() / 3.0))
                runs.emplace_back();
            if (at) runs.back() << *at;
        }
    }
    const QColor colour = colour_of(kind);
    const Qt::PenStyle style = kind == ShapeKind::restore    ? Qt::SolidLine
                               : kind == ShapeKind::distance ? Qt::DashDotLine
                                                             : Qt::DashLine;
    for (const auto& run : runs) {
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 150), chosen ? 4 : 3));
        p.drawPolyline(run);
        p.setPen(QPen(colour, chosen ? 2 : 1.3, style));
        p.drawPolyline(run);
    }
}

void ShapeTool::paint(QPainter& p) {
    const ShotCamera* u = use();
    if (!u) return;
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    for (int s = 0; s < int(u->shapes.size()); ++s) {
        const Shape& shape = u->shapes[std::size_t(s)];
        p.setOpacity(shape.on ? 1 : 0.4);
        stroke(p, corners(s), kind_of(shape), s == selected_, false);
    }
    p.setOpacity(1);
    const auto handles = [&](const std::vector<ShapeCorner>& list, int chosen) {
        for (int i = 0; i < int(list.size()); ++i) {
            const ShapeCorner& c = list[std::size_t(i)];
            const auto at = screen_of(c.at);
            if (!at) continue;
            if (i == chosen)
                for (const Vec2& h : {c.before, c.after})
                    if (const auto end = screen_of(c.at + h); end && !h.isZero()) {
                        p.setPen(QPen(colour::text, 1));
                        p.drawLine(*at, *end);
                        p.setBrush(colour::text);
                        p.drawEllipse(*end, 3.2, 3.2);
                    }
            p.setPen(QPen(QColor(0, 0, 0, 180), 1));
            p.setBrush(i == chosen ? colour::accent : colour::text);
            p.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
        }
    };
    if (drawing_) {
        stroke(p, draft_, kind_, true, true);
        handles(draft_, int(draft_.size()) - 1);
        if (!draft_.empty() && grip_.part == Part::none)
            if (const auto last = screen_of(draft_.back().at)) {
                p.setPen(QPen(colour::muted, 1, Qt::DotLine));
                p.drawLine(*last, hover_);
            }
    } else if (selected_ >= 0) {
        handles(corners(selected_), corner_);
    }
    p.restore();
}

QString ShapeTool::words() const {
    if (!drawing_) return {};
    const QString what = QString(kind_ == ShapeKind::distance  ? "What camera %1 sees there is how far away"
                                 : kind_ == ShapeKind::restore ? "What camera %1 should show again"
                                                               : "What camera %1 should not show")
                             .arg(QString::fromStdString(on_));
    return draft_.size() < kFewestCorners
               ? what + ": click round it; drag while clicking to bend (Esc gives up)"
               : what + ": click the first corner, or Enter, to close";
}

} // namespace porb::app
