#include "app/stations/seams/shelters_part.h"

#include "app/session/job_bar.h"
#include "app/stations/seams/area_distance_row.h"
#include "app/widgets/keyed_list.h"
#include "app/widgets/number_field.h"
#include "project/limits.h"
#include "seams/follow.h"
#include "seams/grow.h"

#include <QComboBox>
#include <QFormLayout>
#include <QLabel>
#include <QPushButton>
#include <QSignalBlocker>
#include <QVBoxLayout>

namespace porb::app {

SheltersPart::SheltersPart(Session& session, PictureArea& picture, MeasureTool& measure, QWidget* parent)
    : QWidget(parent), session_(session), tool_(session, picture) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* words = new QLabel(
        "What lies in a shelter comes whole from one camera: seams run round it, and it is drawn evenly.");
    words->setProperty("role", "hint");
    words->setWordWrap(true);
    column->addWidget(words);
    draw_ = new QPushButton("Draw a shelter");
    draw_->setObjectName("draw_shelter");
    draw_->setToolTip("Drag from the middle of what must stay whole, in map or window view (A)");
    grow_ = new QPushButton("Grow from a click");
    grow_->setObjectName("grow_shelter");
    grow_->setToolTip("Click on a subject: the shelter becomes as large as what stands out there (Shift+A)");
    auto* draw_row = new QHBoxLayout;
    draw_row->addWidget(draw_);
    draw_row->addWidget(grow_);
    column->addLayout(draw_row);
    connect(grow_, &QPushButton::clicked, this, [this] { tool_.begin_growing(); });
    connect(&tool_, &ShelterTool::grow_wanted, this, &SheltersPart::grow);
    list_ = new NamedList("Shelter", "Camera");
    list_->setObjectName("shelters_table");
    column->addWidget(list_, 1);
    auto* form = new QFormLayout;
    camera_ = new QComboBox;
    camera_->setObjectName("shelter_camera");
    camera_->setToolTip("Where its picture comes from");
    form->addRow("Comes from", camera_);
    sees_ = new QLabel;
    sees_->setObjectName("shelter_sees");
    sees_->setWordWrap(true);
    form->addRow("", sees_);
    distance_ = new AreaDistanceRow("shelter_distance", session, measure);
    form->addRow("Lies", distance_);
    connect(distance_, &AreaDistanceRow::edited, this, [this](const AreaDistance& d, const QString& key) {
        set(
            "Distance of a shelter", [d](Shelter& s) { s.distance = d; }, key);
    });
    auto* span = new QHBoxLayout;
    from_ = new QPushButton;
    from_->setObjectName("shelter_from");
    from_->setToolTip("Lets it begin at the playhead; once more: with the shot");
    to_ = new QPushButton;
    to_->setObjectName("shelter_to");
    to_->setToolTip("Lets it end at the playhead; once more: with the shot");
    span->addWidget(from_);
    span->addWidget(to_);
    form->addRow("Lasts", span);
    const auto field = [&](const QString& label, const char* name, Range range, double step, int digits,
                           const QString& unit, const QString& tip, double Shelter::*value) {
        auto* f = new NumberField(range, step, digits, unit);
        f->setObjectName(name);
        f->setToolTip(tip);
        form->addRow(label, f);
        connect(f, &NumberField::edited, this, [this, label, value](double v) {
            set(
                label + " of a shelter", [value, v](Shelter& s) { s.*value = v; }, label);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    ease_ = field("Ease", "shelter_ease", limits::kEase_s, 0.05, 2, " s",
                  "Seconds in which the seam passes round it, before and after", &Shelter::ease_s);
    feather_ = field("Feather", "shelter_feather", limits::kShelterFeather_deg, 0.1, 1, "°",
                     "How softly its edge ends", &Shelter::feather_deg);
    keys_ = new KeysRow("shelter",
                        "Sets a key of the selected shelter at the playhead, or takes the one there away");
    form->addRow("Moves", keys_);
    column->addLayout(form);
    auto* row = new QHBoxLayout;
    follow_ = new QPushButton("Follow what is in it");
    follow_->setObjectName("shelter_follow");
    follow_->setToolTip("Finds where the subject goes, from the playhead both ways, and sets keys");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("shelter_remove");
    remove_->setToolTip("Removes the selected shelter (Delete in the picture)");
    row->addWidget(follow_, 1);
    row->addWidget(remove_);
    column->addLayout(row);
    column->addWidget(new JobBar(job_, session, "shelter", "the shelter"));

    connect(draw_, &QPushButton::clicked, this, [this] { tool_.begin(); });
    connect(keys_, &KeysRow::toggle_wanted, this, [this] { tool_.toggle_key(); });
    connect(remove_, &QPushButton::clicked, this, [this] { tool_.remove_selected(); });
    connect(&job_, &BackgroundJob::running_changed, this, &SheltersPart::refresh);
    connect(follow_, &QPushButton::clicked, this, &SheltersPart::follow);
    connect(camera_, &QComboBox::activated, this, [this](int i) {
        const Shot* shot = session_.shot();
        const std::string id = i == 0 || !shot ? std::string() : shot->cameras[std::size_t(i) - 1].camera;
        set("Camera of a shelter", [id](Shelter& s) { s.camera = id; });
    });
    const auto moment = [this](std::optional<Seconds> Shelter::*member) {
        const Shelter* s = chosen();
        if (!s) return;
        const Seconds now = session_.playhead();
        const bool here = s->*member && *(s->*member) == now;
        set("Span of a shelter", [&](Shelter& x) {
            x.*member = here ? std::nullopt : std::optional<Seconds>(now);
            if (x.from && x.to && *x.to < *x.from) (member == &Shelter::from ? x.to : x.from) = std::nullopt;
        });
    };
    connect(from_, &QPushButton::clicked, this, [moment] { moment(&Shelter::from); });
    connect(to_, &QPushButton::clicked, this, [moment] { moment(&Shelter::to); });
    connect(list_, &NamedList::selected, this, [this](int at) { tool_.select(at); });
    connect(list_, &NamedList::switched, this, [this](int, bool on) {
        set(on ? "Use a shelter" : "Leave a shelter out", [on](Shelter& s) { s.on = on; });
    });
    connect(list_, &NamedList::renamed, this, [this](int, const QString& name) {
        set("Name a shelter", [&](Shelter& s) { s.name = name.toStdString(); });
    });
    connect(&tool_, &ShelterTool::selection_changed, this, &SheltersPart::refresh);
    connect(&session_, &Session::playhead_changed, this, [this] {
        const Shelter* s = chosen(); // only which of its keys is here can change
        if (isVisible() && s && s->keys.size() > 1) refresh();
    });
}

const Shelter* SheltersPart::chosen() const {
    const Shot* shot = session_.shot();
    const int i = tool_.selected();
    return shot && i >= 0 && i < int(shot->seams.shelters.size()) ? &shot->seams.shelters[std::size_t(i)]
                                                                  : nullptr;
}

void SheltersPart::set(const QString& label, const std::function<void(Shelter&)>& work, const QString& key) {
    const int index = tool_.selected();
    if (!chosen()) return;
    session_.edit_shot(
        label, [&](Shot& s) { work(s.seams.shelters[std::size_t(index)]); }, key);
}

void SheltersPart::follow() {
    const Shelter* s = chosen();
    if (!s || job_.is_running()) return;
    const ProjectPtr project = session_.project();
    const std::string shot_id = session_.shot()->id;
    const Shelter shelter = *s;
    const Seconds from = session_.playhead(), end = session_.length();
    const int index = tool_.selected();
    job_.start([this, project, shot_id, shelter, from, end,
                index](const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        const Shot& shot = *find_shot(*project, shot_id);
        const Followed followed = follow_shelter(
            *project, shot, shelter, from, end, session_.library(),
            [&](double share) { tell(share, "Following: %p %"); }, cancel);
        return [this, followed, shot_id, index, shelter] {
            const Shot* now = session_.shot();
            if (!now || now->id != shot_id || index >= int(now->seams.shelters.size()) ||
                !(now->seams.shelters[std::size_t(index)] == shelter))
                return session_.say_changed_meanwhile();
            session_.edit_shot("Follow a subject", [&](Shot& x) {
                Shelter& mine = x.seams.shelters[std::size_t(index)];
                mine.keys = followed.keys;
                mine.from = followed.from;
                mine.to = followed.to;
            });
            session_.say(
                QString("Followed over %1 s%2.")
                    .arg((followed.keys.back().time - followed.keys.front().time).to_double(), 0, 'f', 1)
                    .arg(followed.lost ? ", until it was lost" : ""),
                followed.lost ? Signal::care : Signal::good);
        };
    });
    refresh();
}

void SheltersPart::grow(const Vec3& rig_direction) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, time = session_.playhead(), rig_direction,
                library = session_.library()](const BackgroundJob::Tell& tell,
                                              const Cancel&) -> BackgroundJob::Finish {
        tell(0, "Looking at what is there");
        const ShelterKey key = subject_at(*project, *find_shot(*project, id), time, rig_direction, library);
        return [this, key, id] {
            if (!session_.shot() || session_.shot()->id != id) return;
            int index = 0;
            session_.edit_shot("Grow a shelter", [&](Shot& s) {
                index = int(s.seams.shelters.size());
                Shelter made;
                made.name = "shelter " + std::to_string(index + 1);
                made.keys = {key};
                s.seams.shelters.push_back(made);
            });
            tool_.select(index);
            session_.say(QString("As large as what stands out there: %1° × %2°. Follow it, or let it stay.")
                             .arg(key.width_deg, 0, 'f', 0)
                             .arg(key.height_deg, 0, 'f', 0));
        };
    });
    refresh();
}

void SheltersPart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const QSignalBlocker block_camera(camera_);
    camera_->clear();
    if (!shot) return list_->show_rows({}, -1);
    std::vector<NamedList::Row> rows;
    for (const Shelter& s : shot->seams.shelters) {
        const ShelterCamera sight = shelter_camera(*shot, s);
        const QString part = sight.seen < 1 ? QString("  %1 %").arg(100 * sight.seen, 0, 'f', 0) : QString();
        rows.push_back({QString::fromStdString(s.name), s.on,
                        sight.camera.empty() ? "none" : QString::fromStdString(sight.camera) + part,
                        sight.seen < 1 ? colour::care : colour::text});
    }
    list_->show_rows(rows, tool_.selected());
    const Shelter* s = chosen();
    for (QWidget* w :
         std::initializer_list<QWidget*>{camera_, distance_, from_, to_, ease_, feather_, remove_})
        w->setEnabled(s != nullptr);
    follow_->setEnabled(s && !job_.is_running());
    from_->setText("from the start");
    to_->setText("to the end");
    sees_->clear();
    if (!s) return keys_->show_none(shot->seams.shelters.empty() ? "no shelter yet" : "select a shelter");
    const ShelterCamera sight = shelter_camera(*shot, *s);
    Shelter free = *s;
    free.camera.clear();
    const ShelterCamera best = shelter_camera(*shot, free);
    camera_->addItem("Chosen: " +
                     (best.camera.empty() ? QString("none") : QString::fromStdString(best.camera)));
    for (const auto& c : shot->cameras) {
        camera_->addItem("Camera " + QString::fromStdString(c.camera));
        if (c.camera == s->camera) camera_->setCurrentIndex(camera_->count() - 1);
    }
    if (sight.camera.empty())
        sees_->setText("▲ No camera looks there: move it to where one does.");
    else if (sight.seen < 1)
        sees_->setText(QString("▲ Sees %1 % of it: the rest stays as it was. %2")
                           .arg(100 * sight.seen, 0, 'f', 0)
                           .arg(s->camera.empty() ? "No camera sees it whole; make it smaller."
                                : best.seen > sight.seen
                                    ? "Camera " + QString::fromStdString(best.camera) + " sees more."
                                    : ""));
    else
        sees_->setText("sees it whole");
    sees_->setStyleSheet(QString("color: %1;").arg((sight.seen < 1 ? colour::care : colour::muted).name()));
    if (s->from) from_->setText(QString("from %1 s").arg(s->from->to_double(), 0, 'f', 2));
    if (s->to) to_->setText(QString("to %1 s").arg(s->to->to_double(), 0, 'f', 2));
    distance_->show_distance(s->distance);
    ease_->set_quietly(s->ease_s);
    feather_->set_quietly(s->feather_deg);
    keys_->show_keys(s->keys, session_.playhead());
}

} // namespace porb::app
