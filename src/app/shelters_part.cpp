#include "app/shelters_part.h"

#include "app/number_field.h"
#include "project/limits.h"
#include "stitch/follow.h"
#include "stitch/grow.h"

#include <QComboBox>
#include <QFormLayout>
#include <QHeaderView>
#include <QLabel>
#include <QProgressBar>
#include <QPushButton>
#include <QSignalBlocker>
#include <QTableWidget>
#include <QVBoxLayout>

namespace porb::app {

SheltersPart::SheltersPart(Session& session, PictureArea& picture, QWidget* parent)
    : QWidget(parent), session_(session), tool_(session, picture) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* words = new QLabel("What lies in a shelter comes whole from one camera: seams run round it.");
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
    table_ = new QTableWidget(0, 3);
    table_->setObjectName("shelters_table");
    table_->setHorizontalHeaderLabels({"On", "Shelter", "Camera"});
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(25);
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::ResizeToContents);
    table_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
    table_->horizontalHeader()->setSectionResizeMode(2, QHeaderView::ResizeToContents);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed);
    table_->setMinimumHeight(96);
    column->addWidget(table_, 1);
    auto* form = new QFormLayout;
    camera_ = new QComboBox;
    camera_->setObjectName("shelter_camera");
    camera_->setToolTip("Where its picture comes from");
    form->addRow("Comes from", camera_);
    sees_ = new QLabel;
    sees_->setObjectName("shelter_sees");
    sees_->setWordWrap(true);
    form->addRow("", sees_);
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
    auto* keys_row = new QHBoxLayout;
    keys_ = new QLabel;
    keys_->setObjectName("shelter_keys");
    key_ = new QPushButton("Key here");
    key_->setObjectName("shelter_key");
    key_->setToolTip("Sets a key of the selected shelter at the playhead, or takes the one there away");
    keys_row->addWidget(keys_, 1);
    keys_row->addWidget(key_);
    form->addRow("Moves", keys_row);
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
    auto* busy = new QHBoxLayout;
    progress_ = new QProgressBar;
    stop_ = new QPushButton("Stop");
    stop_->setToolTip("Ends it; the shelter stays as it was");
    busy->addWidget(progress_, 1);
    busy->addWidget(stop_);
    column->addLayout(busy);
    progress_->hide();
    stop_->hide();

    connect(draw_, &QPushButton::clicked, this, [this] { tool_.begin(); });
    connect(key_, &QPushButton::clicked, this, [this] { tool_.toggle_key(); });
    connect(remove_, &QPushButton::clicked, this, [this] { tool_.remove_selected(); });
    connect(follow_, &QPushButton::clicked, this, &SheltersPart::follow);
    connect(stop_, &QPushButton::clicked, this, [this] { job_.stop(); });
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
    connect(table_, &QTableWidget::itemSelectionChanged, this,
            [this] { tool_.select(table_->selectionModel()->hasSelection() ? table_->currentRow() : -1); });
    connect(table_, &QTableWidget::cellChanged, this, [this](int r, int c) {
        tool_.select(r);
        if (c == 0) {
            const bool on = table_->item(r, 0)->checkState() == Qt::Checked;
            set(on ? "Use a shelter" : "Leave a shelter out", [on](Shelter& s) { s.on = on; });
        } else if (c == 1) {
            const std::string name = table_->item(r, 1)->text().trimmed().toStdString();
            set("Name a shelter", [name](Shelter& s) { s.name = name; });
        }
    });
    connect(&tool_, &ShelterTool::selection_changed, this, &SheltersPart::refresh);
    connect(&session_, &Session::playhead_changed, this, [this] {
        const Shelter* s = chosen(); // only which of its keys is here can change
        if (isVisible() && s && s->keys.size() > 1) refresh();
    });
    connect(&job_, &BackgroundJob::progressed, this, [this](double share, const QString& doing) {
        progress_->setRange(0, 1000);
        progress_->setValue(int(1000 * share));
        progress_->setFormat(doing);
    });
    connect(&job_, &BackgroundJob::ended, this, [this](const QString& error, bool stopped) {
        progress_->hide();
        stop_->hide();
        if (stopped)
            session_.say("Stopped. The shelter stays as it was.", Signal::care);
        else if (!error.isEmpty())
            session_.say(error, Signal::stop);
        refresh();
    });
}

const Shelter* SheltersPart::chosen() const {
    const Shot* shot = session_.shot();
    const int i = tool_.selected();
    return shot && i >= 0 && i < int(shot->shelters.size()) ? &shot->shelters[std::size_t(i)] : nullptr;
}

void SheltersPart::set(const QString& label, const std::function<void(Shelter&)>& work, const QString& key) {
    const int index = tool_.selected();
    if (!chosen()) return;
    session_.edit_shot(
        label, [&](Shot& s) { work(s.shelters[std::size_t(index)]); }, key);
}

void SheltersPart::follow() {
    const Shelter* s = chosen();
    if (!s || job_.is_running()) return;
    const ProjectPtr project = session_.project();
    const std::string shot_id = session_.shot()->id;
    const Shelter shelter = *s;
    const Seconds from = session_.playhead(), end = session_.length();
    const int index = tool_.selected();
    progress_->setRange(0, 0);
    progress_->show();
    stop_->show();
    job_.start([this, project, shot_id, shelter, from, end,
                index](const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        const Shot& shot = *find_shot(*project, shot_id);
        const Followed followed = follow_shelter(
            *project, shot, shelter, from, end, session_.library(),
            [&](double share) { tell(share, "Following: %p %"); }, cancel);
        return [this, followed, shot_id, index, shelter] {
            const Shot* now = session_.shot();
            if (!now || now->id != shot_id || index >= int(now->shelters.size()) ||
                !(now->shelters[std::size_t(index)] == shelter))
                return session_.say("The shelter was changed meanwhile: what was followed is left away.",
                                    Signal::care);
            session_.edit_shot("Follow a subject", [&](Shot& x) {
                Shelter& mine = x.shelters[std::size_t(index)];
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
    progress_->setRange(0, 0);
    progress_->show();
    stop_->show();
    job_.start([this, project = session_.project(), id = shot->id, time = session_.playhead(), rig_direction,
                library = session_.library()](const BackgroundJob::Tell& tell,
                                              const Cancel&) -> BackgroundJob::Finish {
        tell(0, "Looking at what is there");
        const ShelterKey key = subject_at(*project, *find_shot(*project, id), time, rig_direction, library);
        return [this, key, id] {
            if (!session_.shot() || session_.shot()->id != id) return;
            int index = 0;
            session_.edit_shot("Grow a shelter", [&](Shot& s) {
                index = int(s.shelters.size());
                Shelter made;
                made.name = "shelter " + std::to_string(index + 1);
                made.keys = {key};
                s.shelters.push_back(made);
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
    const QSignalBlocker block_table(table_), block_camera(camera_);
    table_->setRowCount(shot ? int(shot->shelters.size()) : 0);
    camera_->clear();
    if (!shot) return;
    for (int r = 0; r < int(shot->shelters.size()); ++r) {
        const Shelter& s = shot->shelters[std::size_t(r)];
        const auto cell = [&](int column, const QString& text) {
            QTableWidgetItem* item = table_->item(r, column);
            if (!item) table_->setItem(r, column, item = new QTableWidgetItem);
            item->setText(text);
            return item;
        };
        auto* on = cell(0, "");
        on->setFlags(Qt::ItemIsEnabled | Qt::ItemIsUserCheckable | Qt::ItemIsSelectable);
        on->setCheckState(s.on ? Qt::Checked : Qt::Unchecked);
        cell(1, QString::fromStdString(s.name));
        const ShelterSight sight = shelter_sight(*shot, s);
        auto* who = cell(
            2, sight.camera.empty()
                   ? "none"
                   : QString::fromStdString(sight.camera) +
                         (sight.seen < 1 ? QString("  %1 %").arg(100 * sight.seen, 0, 'f', 0) : QString()));
        who->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
        who->setForeground(sight.seen < 1 ? colour::care : colour::text);
    }
    const int index = tool_.selected();
    if (index >= 0 && index < table_->rowCount())
        table_->selectRow(index);
    else
        table_->clearSelection();
    const Shelter* s = chosen();
    for (QWidget* w : std::initializer_list<QWidget*>{camera_, from_, to_, ease_, feather_, key_, remove_})
        w->setEnabled(s != nullptr);
    follow_->setEnabled(s && !job_.is_running());
    from_->setText("from the start");
    to_->setText("to the end");
    sees_->clear();
    if (!s) return keys_->setText(shot->shelters.empty() ? "no shelter yet" : "select a shelter");
    const ShelterSight sight = shelter_sight(*shot, *s);
    Shelter free = *s;
    free.camera.clear();
    const ShelterSight best = shelter_sight(*shot, free);
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
    ease_->set_quietly(s->ease_s);
    feather_->set_quietly(s->feather_deg);
    const bool here = std::any_of(s->keys.begin(), s->keys.end(),
                                  [&](const ShelterKey& k) { return k.time == session_.playhead(); });
    keys_->setText(s->keys.size() == 1
                       ? "stays where it is"
                       : QString("%1 keys%2").arg(s->keys.size()).arg(here ? ", one here" : ""));
    key_->setText(here && s->keys.size() > 1 ? "Remove the key" : "Key here");
}

} // namespace porb::app
