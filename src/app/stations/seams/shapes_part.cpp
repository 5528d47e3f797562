#include "app/stations/seams/shapes_part.h"

#include "app/session/job_bar.h"
#include "app/stations/seams/area_distance_row.h"
#include "app/widgets/keyed_list.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "project/limits.h"
#include "project/orientation.h"
#include "seams/follow_shape.h"
#include "stitch/plan/coverage_report.h"

#include <QComboBox>
#include <QFormLayout>
#include <QLabel>
#include <QPushButton>
#include <QSignalBlocker>
#include <QVBoxLayout>

namespace porb::app {

ShapesPart::ShapesPart(Session& session, PictureArea& picture, MeasureTool& measure, QWidget* parent)
    : QWidget(parent), session_(session), picture_(picture), tool_(session, picture) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* words = new QLabel(
        "A cut-out takes something out of a camera's picture; the neighbour who sees behind it "
        "fills in. A restore brings a part back. A distance says how far away glass, mirrors or water are.");
    words->setProperty("role", "hint");
    words->setWordWrap(true);
    column->addWidget(words);
    camera_ = new QComboBox;
    camera_->setObjectName("shapes_camera");
    camera_->setToolTip("The camera whose shapes these are (N for the next)");
    column->addWidget(camera_);
    auto* draw = new QHBoxLayout;
    draw->addWidget(new QLabel("Draw a"));
    cut_ = new QPushButton("Cut-out");
    cut_->setObjectName("draw_cut_out");
    cut_->setToolTip("Click round what this camera should not show (Z)");
    restore_ = new QPushButton("Restore");
    restore_->setObjectName("draw_restore");
    restore_->setToolTip("Click round what it should show again (Shift+Z)");
    tell_ = new QPushButton("Distance");
    tell_->setObjectName("draw_distance");
    tell_->setToolTip("Click round what matching can't place, and say how far away it is (Ctrl+Shift+D)");
    for (QPushButton* b : {cut_, restore_, tell_}) draw->addWidget(b, 1);
    column->addLayout(draw);
    list_ = new NamedList("Shape", "Does");
    list_->setObjectName("shapes_table");
    column->addWidget(list_, 1);
    auto* form = new QFormLayout;
    feather_ = new NumberField(limits::kFeather_deg, 0.1, 1, "°");
    feather_->setObjectName("shape_feather");
    feather_->setToolTip("How softly the shape's edge ends");
    form->addRow("Feather", feather_);
    distance_ = new AreaDistanceRow("shape_distance", session, measure);
    form->addRow("Lies", distance_);
    connect(distance_, &AreaDistanceRow::edited, this, [this](const AreaDistance& d, const QString& key) {
        set(
            "Distance of a shape", [d](Shape& s) { s.distance = d; }, key);
    });
    keys_ =
        new KeysRow("shape", "Sets a key of the selected shape at the playhead, or takes the one there away: "
                             "between keys the shape moves evenly");
    form->addRow("Moves", keys_);
    column->addLayout(form);
    auto* row = new QHBoxLayout;
    copy_ = new QPushButton("Copy to all cameras");
    copy_->setObjectName("shape_copy");
    copy_->setToolTip("The same shape at the same place of every other camera's circle");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("shape_remove");
    remove_->setToolTip("Removes the selected shape (Delete in the picture)");
    row->addWidget(copy_, 1);
    row->addWidget(remove_);
    column->addLayout(row);
    follow_ = new QPushButton("Follow what is in it");
    follow_->setObjectName("shape_follow");
    follow_->setToolTip(
        "Finds where what lies in the shape goes on this camera's picture, from the playhead both ways, "
        "and sets keys");
    column->addWidget(follow_);
    column->addWidget(new JobBar(job_, session, "shape", "the shape"));
    connect(&job_, &BackgroundJob::running_changed, this, &ShapesPart::refresh);
    connect(follow_, &QPushButton::clicked, this, &ShapesPart::follow);
    hole_ = new QLabel;
    hole_->setObjectName("shapes_hole");
    hole_->setWordWrap(true);
    look_ = new QPushButton("Look at the hole");
    look_->setObjectName("shapes_look");
    look_->setToolTip("Turns the window view to what nobody shows");
    column->addWidget(hole_);
    column->addWidget(look_);

    connect(camera_, &QComboBox::activated, this, [this](int i) {
        if (const Shot* s = session_.shot()) session_.select_camera(s->cameras[std::size_t(i)].camera);
    });
    connect(cut_, &QPushButton::clicked, this, [this] { tool_.begin(ShapeKind::cut_out); });
    connect(restore_, &QPushButton::clicked, this, [this] { tool_.begin(ShapeKind::restore); });
    connect(tell_, &QPushButton::clicked, this, [this] { tool_.begin(ShapeKind::distance); });
    connect(keys_, &KeysRow::toggle_wanted, this, [this] { tool_.toggle_key(); });
    connect(remove_, &QPushButton::clicked, this, [this] { tool_.remove_selected(); });
    connect(copy_, &QPushButton::clicked, this, &ShapesPart::copy_to_others);
    connect(feather_, &NumberField::edited, this, [this](double v) {
        set(
            "Feather of a shape", [v](Shape& s) { s.feather_deg = v; }, "shape-feather");
    });
    connect(feather_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(list_, &NamedList::selected, this, [this](int at) { tool_.select(at); });
    connect(list_, &NamedList::switched, this, [this](int, bool on) {
        set(on ? "Use a shape" : "Leave a shape out", [on](Shape& s) { s.on = on; });
    });
    connect(list_, &NamedList::renamed, this, [this](int, const QString& name) {
        set("Name a shape", [&](Shape& s) { s.name = name.toStdString(); });
    });
    connect(look_, &QPushButton::clicked, this, [this] {
        const Shot* shot = session_.shot();
        if (!shot) return;
        const Vec3 d = orientation_at(*shot, session_.playhead()) * found_.middle;
        picture_.set_mode(ViewMode::window);
        picture_.set_look(turn_towards(d), 70);
    });
    connect(&tool_, &ShapeTool::selection_changed, this, &ShapesPart::refresh);
    connect(&tool_, &ShapeTool::drawing_changed, this, &ShapesPart::refresh);
    connect(&session_, &Session::selection_changed, this, [this] {
        if (isVisible()) refresh();
    });
    connect(&session_, &Session::playhead_changed, this, [this] {
        if (isVisible() && any_moves()) refresh();
    });
}

const ShotCamera* ShapesPart::use() const {
    const Shot* shot = session_.shot();
    if (!shot || shot->cameras.empty()) return nullptr;
    const ShotCamera* c = find_camera(*shot, session_.selected_camera());
    return c ? c : &shot->cameras.front();
}

void ShapesPart::set(const QString& label, const std::function<void(Shape&)>& work, const QString& key) {
    const ShotCamera* u = use();
    const int index = tool_.selected();
    if (!u || index < 0) return;
    const std::string id = u->camera;
    session_.edit_shot(
        label,
        [&](Shot& s) {
            for (auto& c : s.cameras)
                if (c.camera == id && index < int(c.shapes.size())) work(c.shapes[std::size_t(index)]);
        },
        key);
}

void ShapesPart::copy_to_others() {
    const ShotCamera* u = use();
    const int index = tool_.selected();
    if (!u || index < 0 || index >= int(u->shapes.size())) return;
    const Shape shape = u->shapes[std::size_t(index)];
    const std::string id = u->camera;
    session_.edit_shot("Copy a shape", [&](Shot& s) {
        for (auto& c : s.cameras)
            if (c.camera != id) c.shapes.push_back(shape);
    });
    session_.say("The shape is on every camera now, at the same place of its circle.");
}

void ShapesPart::follow() {
    const ShotCamera* u = use();
    const int index = tool_.selected();
    if (!u || index < 0 || index >= int(u->shapes.size()) || job_.is_running()) return;
    job_.start([this, use = *u, shape = u->shapes[std::size_t(index)], index, id = session_.shot()->id,
                project = session_.project(), from = session_.playhead(), end = session_.length(),
                library = session_.library()](const BackgroundJob::Tell& tell,
                                              const Cancel& cancel) -> BackgroundJob::Finish {
        const FollowedShape f = follow_shape(
            *project, *find_shot(*project, id), use, shape, from, end, library,
            [&](double share) { tell(share, "following"); }, cancel);
        return [this, f, id, index, shape, camera = use.camera] {
            const Shot* now = session_.shot();
            const ShotCamera* mine = now && now->id == id ? find_camera(*now, camera) : nullptr;
            if (!mine || index >= int(mine->shapes.size()) || !(mine->shapes[std::size_t(index)] == shape))
                return session_.say_changed_meanwhile();
            session_.edit_shot("Follow with a shape", [&](Shot& s) {
                for (auto& c : s.cameras)
                    if (c.camera == camera) c.shapes[std::size_t(index)].keys = f.keys;
            });
            session_.say(QString("Followed over %1 s%2.")
                             .arg((f.keys.back().time - f.keys.front().time).to_double(), 0, 'f', 1)
                             .arg(f.lost ? ", until it was lost" : ""),
                         f.lost ? Signal::care : Signal::good);
        };
    });
    refresh();
}

void ShapesPart::refresh() {
    const Shot* shot = session_.shot();
    const ShotCamera* u = use();
    setEnabled(u != nullptr);
    const QSignalBlocker block_camera(camera_);
    camera_->clear();
    if (!u) return list_->show_rows({}, -1);
    for (const auto& c : shot->cameras) {
        const auto n = c.shapes.size();
        camera_->addItem("Camera " + QString::fromStdString(c.camera) +
                         (n ? QString("   %1 shape%2").arg(n).arg(n > 1 ? "s" : "") : QString()));
        if (&c == u) camera_->setCurrentIndex(camera_->count() - 1);
    }
    std::vector<NamedList::Row> rows;
    for (const Shape& s : u->shapes)
        rows.push_back({QString::fromStdString(s.name), s.on,
                        s.distance   ? "tells how far"
                        : s.restores ? "brings back"
                                     : "cuts out",
                        s.distance   ? colour::accent
                        : s.restores ? colour::good
                                     : colour::stop});
    const int index = tool_.selected();
    list_->show_rows(rows, index);
    const bool chosen = index >= 0 && index < int(u->shapes.size());
    for (QWidget* w : std::initializer_list<QWidget*>{feather_, copy_, remove_}) w->setEnabled(chosen);
    follow_->setEnabled(chosen && !job_.is_running());
    const bool tells = chosen && u->shapes[std::size_t(index)].distance;
    distance_->setEnabled(tells);
    distance_->show_distance(tells ? *u->shapes[std::size_t(index)].distance : AreaDistance());
    if (chosen) {
        const Shape& s = u->shapes[std::size_t(index)];
        feather_->set_quietly(s.feather_deg);
        keys_->show_keys(s.keys, session_.playhead());
    } else {
        keys_->show_none(u->shapes.empty() ? "no shape yet" : "select a shape");
    }
    show_hole(*shot);
}

bool ShapesPart::any_moves() const {
    const Shot* shot = session_.shot();
    return shot && std::any_of(shot->cameras.begin(), shot->cameras.end(), [](const ShotCamera& c) {
               return std::any_of(c.shapes.begin(), c.shapes.end(),
                                  [](const Shape& s) { return s.keys.size() > 1; });
           });
}

void ShapesPart::show_hole(const Shot& shot) {
    // A hole is the rig's, however it is turned.
    PlanKey key = in_rig_axes(plan_key(shot, View(), session_.playhead(), Sources::all));
    key.shelters.clear();
    key.lines = SeamLines(); // whoever supplies it, somebody sees it or not
    key.line_state = {};
    if (hole_of_ != key) {
        hole_of_ = key;
        found_ = cut_hole(shot, session_.playhead());
    }
    const CutHole& hole = found_;
    const bool open = hole.square_deg > 0;
    hole_->setVisible(open);
    look_->setVisible(open);
    if (!open) return;
    QStringList who;
    for (const auto& id : hole.could_fill) who << QString::fromStdString(id);
    hole_->setStyleSheet(QString("color: %1;").arg(colour::care.name()));
    hole_->setText(
        QString("▲ The cut-outs leave a hole of %1 square degrees. ").arg(hole.square_deg, 0, 'f', 0) +
        (who.isEmpty() ? "No other camera sees what is there: make a cut-out smaller."
                       : "A wider reach of camera " + who.join(" or ") + " would fill it."));
}

} // namespace porb::app
