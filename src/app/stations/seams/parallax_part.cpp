#include "app/stations/seams/parallax_part.h"

#include "app/picture/picture_area.h"
#include "app/session/job_bar.h"
#include "app/widgets/number_field.h"
#include "app/widgets/parts_row.h"
#include "project/limits.h"
#include "seams/crossings.h"
#include "seams/find_lines.h"
#include "stitch/plan/coverage_report.h"

#include <QCheckBox>
#include <QFormLayout>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QSignalBlocker>
#include <QTableWidget>

namespace porb::app {

namespace {
QLabel* heading(QBoxLayout* into, const QString& text) {
    auto* label = new QLabel(text);
    label->setProperty("role", "group");
    into->addWidget(label);
    return label;
}

bool has_key(const std::vector<FlowKey>& keys, Seconds time) {
    return std::any_of(keys.begin(), keys.end(), [time](const FlowKey& k) { return k.time == time; });
}
} // namespace

ParallaxPart::ParallaxPart(Session& session, PictureArea& picture, QWidget* parent)
    : QWidget(parent), session_(session) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    heading(column, "LINES");
    lines_ = new QLabel;
    lines_->setObjectName("lines_told");
    lines_->setProperty("role", "hint");
    lines_->setWordWrap(true);
    column->addWidget(lines_);
    auto* row = new QHBoxLayout;
    find_ =
        add_button(row, "Find lines", "lines_find",
                   "Looks through the shot for where neighbours differ least, and lays the lines there (F6)");
    forget_ =
        add_button(row, "Clear", "lines_forget", "Neighbours meet half-way between their reaches again");
    column->addLayout(row);
    column->addWidget(new JobBar(job_, session, "lines", "everything"));
    follow_ = new QCheckBox("Follow the lines found");
    follow_->setObjectName("lines_on");
    column->addWidget(follow_);
    auto* line_form = new QFormLayout;
    ease_ = new NumberField(limits::kEase_s, 0.05, 2, " s");
    ease_->setObjectName("lines_ease");
    ease_->setToolTip("In which a line moves over to its next place");
    line_form->addRow("Moves over in", ease_);
    column->addLayout(line_form);

    heading(column, "PARALLAX");
    flow_ = new QCheckBox("Close it where lenses meet");
    flow_->setObjectName("flow_on");
    flow_->setToolTip(
        "Draws what is near a seam where the rig's centre would see it, by distances found in each "
        "frame (W)");
    trust_ = new QCheckBox("Show trust");
    trust_->setObjectName("show_trust");
    trust_->setToolTip(
        "Tints the zone of seams: where distances are not to be trusted, neighbours pass into each "
        "other as they are (Shift+S)");
    auto* flow_row = new QHBoxLayout;
    flow_row->addWidget(flow_, 1);
    flow_row->addWidget(trust_);
    column->addLayout(flow_row);
    everywhere_ = new QCheckBox("Wherever two cameras see");
    everywhere_->setObjectName("flow_everywhere");
    everywhere_->setToolTip(
        "Uses distances over whole overlaps, not in the zones of seams alone: what is straight bends nowhere "
        "where a zone would end. Outlines of near things come out less even");
    fine_edges_ = new QCheckBox("Fine edges");
    fine_edges_->setObjectName("flow_fine_edges");
    fine_edges_->setToolTip("Distances step where near things end, on both sides of them, and what they hide "
                            "from one camera is drawn "
                            "from another that sees it. A frame takes longer");
    auto* reach_row = new QHBoxLayout;
    reach_row->addWidget(everywhere_, 1);
    reach_row->addWidget(fine_edges_);
    column->addLayout(reach_row);
    connect(fine_edges_, &QCheckBox::clicked, this, &ParallaxPart::toggle_fine_edges);
    connect(everywhere_, &QCheckBox::clicked, this, &ParallaxPart::toggle_everywhere);
    connect(trust_, &QCheckBox::clicked, &picture, &PictureArea::set_trust);
    connect(&picture, &PictureArea::trust_changed, this,
            [this, &picture] { trust_->setChecked(picture.shows_trust()); });
    table_ = new QTableWidget(0, 4);
    table_->setObjectName("seam_pairs");
    table_->setHorizontalHeaderLabels({"Seam", "Strength", "Zone", "Agrees at"});
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(23);
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    // As high as there is room: the page does not scroll on a small screen for the table's sake.
    table_->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Ignored);
    table_->setMinimumHeight(100);
    column->addWidget(table_, 1);
    for_ = heading(column, "");
    for_->setObjectName("flow_for");
    auto* form = new QFormLayout;
    const auto field = [&](const QString& label, const char* name, Range range, double step, int digits,
                           const QString& unit, const QString& tip) {
        auto* f = new NumberField(range, step, digits, unit);
        f->setObjectName(name);
        f->setToolTip(tip);
        form->addRow(label, f);
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    auto* key_row = new QHBoxLayout;
    strength_ = new NumberField(limits::kShare, 0.05, 2, "");
    strength_->setObjectName("flow_strength");
    strength_->setToolTip("0: the agree distance, 1: the distances found");
    connect(strength_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    key_row->addWidget(strength_, 1);
    key_ = new QPushButton("Key here");
    key_->setObjectName("flow_key");
    key_->setToolTip(
        "Sets a key of strength, zone and smoothness at the playhead, or takes the one there away; "
        "they pass evenly from key to key");
    key_row->addWidget(key_);
    form->addRow("Strength", key_row);
    zone_ =
        field("Zone", "flow_zone", limits::kZone_deg, 0.5, 1, "°", "How far from a seam it reaches, fading");
    smoothness_ = field("Smoothness", "flow_smoothness", limits::kSmoothness, 0.1, 1, "",
                        "How much neighbouring distances are held together; 1 is usual");
    nearest_ = field("Nearest", "flow_nearest", limits::kNearest_m, 0.05, 2, " m",
                     "Nearer things are taken to be there");
    agree_ = field("Agrees at", "seam_agree", limits::kDistance_m, 0.05, 2, " m",
                   "Where these two cameras agree, where distances found are not used; 0: infinitely far");
    column->addLayout(form);
    auto* own_row = new QHBoxLayout;
    distance_ =
        add_button(own_row, "Find its distance", "seam_distance", "The middle of what lies on this seam now");
    as_shot_ = add_button(own_row, "As the others", "seam_as_shot",
                          "This seam has no settings of its own any longer");
    column->addLayout(own_row);

    connect(find_, &QPushButton::clicked, this, &ParallaxPart::find_lines_now);
    connect(forget_, &QPushButton::clicked, this, [this] {
        session_.edit_shot("Forget the lines", [](Shot& s) { s.seams.seam_lines = SeamLines(); });
    });
    connect(follow_, &QCheckBox::clicked, this, [this](bool on) {
        session_.edit_shot(on ? "Follow the lines found" : "Leave the lines found",
                           [on](Shot& s) { s.seams.seam_lines.edit([on](SeamLines& l) { l.on = on; }); });
    });
    connect(ease_, &NumberField::edited, this, [this](double v) {
        session_.edit_shot(
            "Ease of lines", [v](Shot& s) { s.seams.seam_lines.edit([v](SeamLines& l) { l.ease_s = v; }); },
            "lines ease");
    });
    connect(ease_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(flow_, &QCheckBox::clicked, this, &ParallaxPart::toggle_flow);
    connect(strength_, &NumberField::edited, this,
            [this](double v) { change_value("strength", &FlowKey::strength, v); });
    connect(zone_, &NumberField::edited, this,
            [this](double v) { change_value("zone", &FlowKey::zone_deg, v); });
    connect(smoothness_, &NumberField::edited, this,
            [this](double v) { change_value("smoothness", &FlowKey::smoothness, v); });
    connect(nearest_, &NumberField::edited, this, [this](double v) {
        change(
            "Parallax: nearest", [v](FlowSettings& f) { f.nearest_m = v; }, "nearest");
    });
    connect(agree_, &NumberField::edited, this, [this](double v) {
        if (const auto pair = chosen())
            change(
                "Agree distance of seam " + told(*pair),
                [&](FlowSettings& f) { own(f, *pair).agree_distance_m = v; }, "seam agree");
    });
    connect(key_, &QPushButton::clicked, this, &ParallaxPart::toggle_key);
    connect(distance_, &QPushButton::clicked, this, &ParallaxPart::find_distance);
    connect(as_shot_, &QPushButton::clicked, this, [this] {
        if (const auto pair = chosen())
            change("A seam as the others", [&](FlowSettings& f) {
                if (const SeamFlow* s = find_seam(f, pair->a, pair->b))
                    f.seams.erase(f.seams.begin() + (s - f.seams.data()));
            });
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, &ParallaxPart::refresh);
    connect(&session_, &Session::playhead_changed, this, [this] {
        const Shot* shot = session_.shot();
        if (!isVisible() || !shot) return;
        const auto moves = [](const SeamFlow& s) { return !s.keys.empty(); };
        if (!shot->seams.flow.keys.empty() ||
            std::any_of(shot->seams.flow.seams.begin(), shot->seams.flow.seams.end(), moves))
            refresh();
    });
    connect(&job_, &BackgroundJob::running_changed, find_, &QWidget::setDisabled);
}

SeamFlow& ParallaxPart::own(FlowSettings& flow, const Pair& pair) {
    if (!find_seam(flow, pair.a, pair.b)) flow.seams.push_back(seam_flow(flow, pair.a, pair.b));
    return flow.seams[std::size_t(find_seam(flow, pair.a, pair.b) - flow.seams.data())];
}

std::optional<ParallaxPart::Pair> ParallaxPart::chosen() const {
    const int r = table_->selectionModel()->hasSelection() ? table_->currentRow() : -1;
    return r >= 0 && r < int(pairs_.size()) ? std::optional(pairs_[std::size_t(r)]) : std::nullopt;
}

QString ParallaxPart::told(const Pair& pair) {
    return QString::fromStdString(pair.a + "–" + pair.b);
}

void ParallaxPart::change(const QString& label, const std::function<void(FlowSettings&)>& set,
                          const QString& key) {
    session_.edit_shot(
        label, [&](Shot& s) { set(s.seams.flow); }, key);
}

void ParallaxPart::change_value(const QString& label, double FlowKey::*value, double to) {
    const auto pair = chosen();
    const Seconds now = session_.playhead();
    change((pair ? "Seam " + told(*pair) + ": " : "Parallax: ") + label,
           [&](FlowSettings& f) {
               if (pair)
                   set_value(own(f, *pair), now, value, to);
               else
                   set_value(f, now, value, to);
           },
           label);
}

void ParallaxPart::toggle_flow() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const bool on = !shot->seams.flow.on;
    change(on ? "Close parallax" : "Leave parallax", [on](FlowSettings& s) { s.on = on; });
}

void ParallaxPart::toggle_everywhere() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const bool on = !shot->seams.flow.everywhere;
    change(on ? "Parallax wherever two cameras see" : "Parallax near seams",
           [on](FlowSettings& f) { f.everywhere = on; });
}

void ParallaxPart::toggle_fine_edges() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const bool on = !shot->seams.flow.fine_edges;
    change(on ? "Fine edges" : "Plain edges", [on](FlowSettings& f) { f.fine_edges = on; });
}

void ParallaxPart::toggle_key() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const auto pair = chosen();
    const Seconds now = session_.playhead();
    const SeamFlow* s = pair ? find_seam(shot->seams.flow, pair->a, pair->b) : nullptr;
    change(has_key(s ? s->keys : shot->seams.flow.keys, now) ? "Remove a key of parallax" : "Key of parallax",
           [&](FlowSettings& f) {
               if (pair)
                   porb::toggle_key(own(f, *pair), now);
               else
                   porb::toggle_key(f, now);
           });
}

void ParallaxPart::find_lines_now() {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        Composer composer(library);
        const Shot before = *find_shot(*project, id);
        const auto lines = std::make_shared<SeamLines>(find_lines(
            *project, before, composer, {}, [&](double share) { tell(share, "finding lines"); }, cancel));
        return [this, lines, before] {
            if (!session_.still_holds(before)) return;
            session_.edit_shot("Find lines", [&](Shot& s) { s.seams.seam_lines = *lines; });
            session_.say(
                lines->keys.size() == 1
                    ? QString("Lines found; they can stay where they are over the whole shot.")
                    : QString("Lines found; they take %1 places over the shot.").arg(lines->keys.size()));
        };
    });
}

void ParallaxPart::find_distance() {
    const Shot* shot = session_.shot();
    const auto pair = chosen();
    if (!shot || !pair || job_.is_running()) return;
    job_.start([this, pair = *pair, project = session_.project(), id = shot->id, time = session_.playhead(),
                library = session_.library()](const BackgroundJob::Tell& tell,
                                              const Cancel&) -> BackgroundJob::Finish {
        tell(0, "looking at the seam");
        Composer composer(library);
        const auto found =
            seam_distance_m(*project, *find_shot(*project, id), composer, pair.a, pair.b, time);
        return [this, found, pair, project, id] {
            if (!session_.still_holds(*find_shot(*project, id))) return;
            if (!found)
                return session_.say("Nothing on this seam tells how far it is: type the distance.",
                                    Signal::care);
            change("Agree distance of a seam",
                   [&](FlowSettings& f) { own(f, pair).agree_distance_m = *found; });
            session_.say(*found > 0 ? QString("Most of what lies on it is %1 m away.").arg(*found, 0, 'f', 2)
                                    : QString("What lies on it is too far away to tell."));
        };
    });
}

void ParallaxPart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const QSignalBlocker block(table_);
    if (!shot) {
        table_->setRowCount(0);
        lines_->clear();
        return;
    }
    const SeamLines& lines = *shot->seams.seam_lines;
    const auto places = lines.keys.size();
    lines_->setText(
        places == 0 ? "Neighbours meet half-way between their reaches."
        : !lines.on ? "Lines were found, but neighbours meet half-way between their reaches."
        : places == 1
            ? "Neighbours meet where they differ least, all through the shot."
            : QString("Neighbours meet where they differ least: %1 places over the shot.").arg(places));
    forget_->setEnabled(places > 0);
    follow_->setEnabled(places > 0);
    follow_->setChecked(places > 0 && lines.on);
    ease_->setEnabled(places > 1 && lines.on);
    ease_->set_quietly(lines.ease_s);

    const auto same = [&] {
        if (!paired_ || !(paired_->rig == shot->rig) || paired_->cameras.size() != shot->cameras.size())
            return false;
        if (!(paired_->seams.seam_lines == shot->seams.seam_lines))
            return false; // lines found let others meet
        for (std::size_t i = 0; i < shot->cameras.size(); ++i)
            if (paired_->cameras[i].reach_deg != shot->cameras[i].reach_deg ||
                paired_->cameras[i].used != shot->cameras[i].used)
                return false;
        return true;
    };
    if (!same()) {
        pairs_.clear();
        for (const auto& [a, b] : meeting_cameras(*shot)) pairs_.push_back({a, b});
        paired_ = *shot;
    }
    const FlowSettings& f = shot->seams.flow;
    const Seconds now = session_.playhead();
    flow_->setChecked(f.on);
    everywhere_->setChecked(f.everywhere);
    everywhere_->setEnabled(f.on);
    fine_edges_->setChecked(f.fine_edges);
    fine_edges_->setEnabled(f.on);
    table_->setRowCount(int(pairs_.size()));
    for (int r = 0; r < int(pairs_.size()); ++r) {
        const Pair& pair = pairs_[std::size_t(r)];
        const SeamFlow* s = find_seam(f, pair.a, pair.b);
        const QString cells[] = {QString::fromStdString(pair.a + " – " + pair.b),
                                 s ? QString::number(values_at(*s, now).strength, 'f', 2) : "–",
                                 s ? QString("%1°").arg(values_at(*s, now).zone_deg, 0, 'f', 1) : "–",
                                 s && s->agree_distance_m
                                     ? *s->agree_distance_m > 0
                                           ? QString("%1 m").arg(*s->agree_distance_m, 0, 'f', 2)
                                           : QString("far")
                                     : "–"};
        for (int i = 0; i < 4; ++i) {
            QTableWidgetItem* item = table_->item(r, i);
            if (!item) table_->setItem(r, i, item = new QTableWidgetItem);
            item->setText(cells[i]);
            item->setTextAlignment(i == 0 ? Qt::Alignment(Qt::AlignCenter)
                                          : Qt::AlignRight | Qt::AlignVCenter);
        }
    }
    const auto pair = chosen();
    const SeamFlow* s = pair ? find_seam(f, pair->a, pair->b) : nullptr;
    const FlowKey values = s ? values_at(*s, now) : values_at(f, now);
    strength_->set_quietly(values.strength);
    zone_->set_quietly(values.zone_deg);
    smoothness_->set_quietly(values.smoothness);
    nearest_->set_quietly(f.nearest_m);
    agree_->set_quietly(s && s->agree_distance_m ? *s->agree_distance_m : shot->seams.agree_distance_m);
    for (auto* field : {strength_, zone_, smoothness_}) field->setEnabled(f.on);
    nearest_->setEnabled(f.on && !pair);
    agree_->setEnabled(f.on && pair);
    distance_->setEnabled(f.on && pair && !job_.is_running());
    as_shot_->setEnabled(s != nullptr);
    key_->setEnabled(f.on);
    const std::vector<FlowKey>& keys = s ? s->keys : f.keys;
    const bool here = has_key(keys, now);
    QString words = pair ? "SEAM " + QString::fromStdString(pair->a + " – " + pair->b) : "ALL SEAMS";
    if (!keys.empty()) words += QString(", %1 KEY%2").arg(keys.size()).arg(keys.size() > 1 ? "S" : "");
    if (here && keys.size() > 1) words += ", ONE HERE";
    for_->setText(words);
    key_->setText(here ? "Remove the key" : "Key here");
}

} // namespace porb::app
