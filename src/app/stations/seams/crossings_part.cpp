#include "app/stations/seams/crossings_part.h"

#include "app/picture/picture_service.h"
#include "app/session/job_bar.h"
#include "app/widgets/parts_row.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "project/orientation.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QSignalBlocker>
#include <QTableWidget>

namespace porb::app {

namespace {
constexpr int kPictureWidth = 72, kPictureHeight = 48, kRound = 72;
constexpr double kClickPx = 14;

Vec3 direction_of(const ShelterKey& oval) {
    return forward_of({oval.yaw_deg, oval.pitch_deg, 0});
}
const ShelterKey& middle_of(const Crossing& c) {
    return c.path[c.path.size() / 2];
}
QString seconds(Seconds t) {
    return QString::number(t.to_double(), 'f', 2);
}
QString state_of(const Crossing& c) {
    if (c.dismissed) return "left";
    if (is_open(c)) return "▲ open";
    switch (c.resolution) {
    case CrossingResolution::line:
        return "● line";
    case CrossingResolution::flow:
        return "● flow";
    case CrossingResolution::shelter:
        return "● shelter";
    case CrossingResolution::hand:
        return "● by hand";
    case CrossingResolution::none:
        break;
    }
    return "● closed";
}
} // namespace

CrossingTool::CrossingTool(Session& session, PictureArea& picture, QObject* parent)
    : QObject(parent), session_(session), picture_(picture) {
    connect(&session_, &Session::shot_changed, this, [this] { select(-1); });
}

void CrossingTool::select(int index) {
    if (selected_ == index) return;
    selected_ = index;
    emit selection_changed();
    picture_.update();
}

std::optional<ShelterKey> CrossingTool::oval(int index) const {
    const Shot* shot = session_.shot();
    if (!shot || !shot->seams.crossings) return std::nullopt;
    const auto& list = (*shot->seams.crossings)->crossings;
    if (index < 0 || index >= int(list.size())) return std::nullopt;
    const Crossing& c = list[std::size_t(index)];
    const Seconds now = session_.playhead();
    if (now < c.path.front().time || now > c.path.back().time) return std::nullopt;
    Shelter along;
    along.keys = c.path;
    return oval_at(along, now);
}

bool CrossingTool::press(QMouseEvent* event) {
    const Shot* shot = session_.shot();
    if (event->button() != Qt::LeftButton || !shot || !shot->seams.crossings) return false;
    const Mat3 to_world = orientation_at(*shot, session_.playhead());
    for (int i = 0; i < int((*shot->seams.crossings)->crossings.size()); ++i)
        if (const auto o = oval(i))
            if (const auto at = picture_.point_of(to_world * direction_of(*o));
                at &&
                std::hypot(at->x() - event->position().x(), at->y() - event->position().y()) < kClickPx) {
                select(i);
                return true;
            }
    return false;
}

void CrossingTool::paint(QPainter& p) {
    const Shot* shot = session_.shot();
    if (!shot || !shot->seams.crossings) return;
    if (picture_.mode() != ViewMode::map && picture_.mode() != ViewMode::window) return;
    const Mat3 to_world = orientation_at(*shot, session_.playhead());
    const auto& list = (*shot->seams.crossings)->crossings;
    for (int i = 0; i < int(list.size()); ++i) {
        const auto o = oval(i);
        if (!o) continue;
        const bool open = is_open(list[std::size_t(i)]);
        const QColor colour = open ? colour::care : colour::good;
        const Mat3 turn = to_world * rotation_of({o->yaw_deg, o->pitch_deg, 0});
        QPolygonF line;
        std::optional<QPointF> last;
        p.setPen(QPen(colour, i == selected_ ? 2.4 : 1.4, open ? Qt::SolidLine : Qt::DotLine));
        p.setBrush(Qt::NoBrush);
        for (int k = 0; k <= kRound; ++k) {
            const double phi = 2 * kPi * k / kRound, x = radians(o->width_deg / 2) * std::cos(phi),
                         y = radians(o->height_deg / 2) * std::sin(phi), theta = std::hypot(x, y);
            const auto at = picture_.point_of(
                turn * Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta)));
            if (at && last && std::abs(at->x() - last->x()) > picture_.width() * 0.4) {
                p.drawPolyline(line);
                line.clear();
            }
            if (at) line << *at;
            last = at;
        }
        p.drawPolyline(line);
        if (const auto at = picture_.point_of(to_world * direction_of(*o))) { // where to click
            p.setBrush(colour);
            p.setPen(Qt::NoPen);
            if (open)
                p.drawPolygon(QPolygonF({*at + QPointF(0, -6), *at + QPointF(6, 4), *at + QPointF(-6, 4)}));
            else
                p.drawEllipse(*at, 4, 4);
        }
    }
}

QString CrossingTool::words() const {
    return {};
}

CrossingsPart::CrossingsPart(Session& session, PictureArea& picture, QWidget* parent)
    : QWidget(parent), session_(session), picture_(picture), tool_(session, picture) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    figure_ = new QLabel;
    figure_->setObjectName("crossings_figure");
    figure_->setProperty("role", "figure");
    told_ = new QLabel;
    told_->setObjectName("crossings_told");
    told_->setProperty("role", "hint");
    told_->setWordWrap(true);
    column->addWidget(figure_);
    column->addWidget(told_);
    auto* row = new QHBoxLayout;
    scan_ = add_button(row, "Look through the shot", "crossings_scan",
                       "Finds subjects that pass from one camera to the next, from in to out (R)");
    close_all_ = add_button(row, "Close what is open", "crossings_close",
                            "Tries flow, lines and shelters, and measures what is left (Shift+R)");
    column->addLayout(row);
    column->addWidget(new JobBar(job_, session, "crossings", "the shot"));
    table_ = new QTableWidget(0, 5);
    table_->setObjectName("crossings_table");
    table_->setHorizontalHeaderLabels({"", "When", "Seam", "Shows", ""});
    table_->horizontalHeaderItem(3)->setToolTip(
        "How far apart two pictures of it are where one passes into the "
        "other, pixels of a picture 3840 wide");
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(kPictureHeight + 4);
    table_->setIconSize(QSize(kPictureWidth, kPictureHeight));
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Fixed);
    table_->setColumnWidth(0, kPictureWidth + 8);
    for (const int narrow : {2, 3, 4}) // a state stands on one line with its mark
        table_->horizontalHeader()->setSectionResizeMode(narrow, QHeaderView::ResizeToContents);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    column->addWidget(table_, 1);
    says_ = new QLabel;
    says_->setObjectName("crossing_says");
    says_->setWordWrap(true);
    says_->setProperty("role", "hint");
    column->addWidget(says_);
    auto* own = new QHBoxLayout;
    close_one_ = add_button(own, "Close this one", "crossing_close",
                            "With flow and lines as they are: a shelter that goes along with it");
    leave_ = add_button(own, "Ignore", "crossing_leave", "It stays as it is and counts no longer as open");
    column->addLayout(own);
    auto* last = new QHBoxLayout;
    measure_ = add_button(
        last, "Measure again", "crossings_measure",
        "What shows of each, as the shot is now: after you moved a line or drew a shelter yourself");
    column->addLayout(last);

    connect(scan_, &QPushButton::clicked, this, &CrossingsPart::scan);
    connect(close_all_, &QPushButton::clicked, this, [this] { close_open(false); });
    connect(close_one_, &QPushButton::clicked, this, [this] { close_open(true); });
    connect(measure_, &QPushButton::clicked, this, &CrossingsPart::measure);
    connect(leave_, &QPushButton::clicked, this, [this] {
        const int i = tool_.selected();
        const CrossingScan* scan = found();
        if (!scan || i < 0) return;
        const bool leave = !scan->crossings[std::size_t(i)].dismissed;
        session_.edit_shot(leave ? "Leave a crossing" : "Take a crossing up again", [&](Shot& s) {
            s.seams.crossings->edit([&](CrossingScan& x) { x.crossings[std::size_t(i)].dismissed = leave; });
        });
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        if (table_->selectionModel()->hasSelection()) go_to(table_->currentRow());
    });
    connect(&tool_, &CrossingTool::selection_changed, this, &CrossingsPart::refresh);
    connect(&picture_, &PictureArea::mode_changed, this, [this] {
        if (isVisible()) look_at_chosen();
    });
    connect(&pictures_, &BackgroundJob::ended, this, &CrossingsPart::refresh);
    connect(&job_, &BackgroundJob::running_changed, this, &CrossingsPart::refresh);
}

const CrossingScan* CrossingsPart::found() const {
    const Shot* shot = session_.shot();
    return shot && shot->seams.crossings ? &**shot->seams.crossings : nullptr;
}

void CrossingsPart::run(const QString& label, const Work& work) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, label, work, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        Composer composer(library); // of its own: looking about must not wait for it
        const Shot before = *find_shot(*project, id);
        auto after = std::make_shared<const Shot>(work(*project, before, composer, tell, cancel));
        return [this, label, after, project, id] {
            const Shot* now = session_.shot();
            if (!now || now->id != id || !(*now == *find_shot(*project, id)))
                return session_.say_changed_meanwhile();
            session_.edit_shot(label, [&](Shot& s) { s = *after; });
            const auto& list = (*after->seams.crossings)->crossings;
            const auto open = std::count_if(list.begin(), list.end(), is_open);
            session_.say(list.empty() ? QString("Nothing passes a seam in front of what is behind it.")
                                      : QString("%1 crossings, %2 open.").arg(list.size()).arg(open),
                         open > 0 ? Signal::care : Signal::good);
        };
    });
}

void CrossingsPart::scan() {
    run("Look for crossings", [](const Project& project, const Shot& shot, Composer& composer,
                                 const BackgroundJob::Tell& tell, const Cancel& cancel) {
        Shot out = shot;
        out.seams.crossings = Shared(scan_crossings(
            project, shot, composer, {}, [&](double share) { tell(share, "looking"); }, cancel));
        return out;
    });
}

void CrossingsPart::measure() {
    if (!found()) return;
    run("Measure crossings", [](const Project& project, const Shot& shot, Composer& composer,
                                const BackgroundJob::Tell& tell, const Cancel& cancel) {
        Shot out = shot;
        CrossingScan scan = measured_again(
            project, shot, composer, [&](double share) { tell(share, "measuring"); }, cancel);
        for (std::size_t i = 0; i < scan.crossings.size(); ++i) // closed by what was done since
            if (is_open((*shot.seams.crossings)->crossings[i]) && !is_open(scan.crossings[i]))
                scan.crossings[i].resolution = CrossingResolution::hand;
        out.seams.crossings = Shared(std::move(scan));
        return out;
    });
}

void CrossingsPart::close_open(bool chosen_only) {
    const CrossingScan* scan = found();
    const int i = tool_.selected();
    if (!scan || (chosen_only && i < 0)) return;
    CloseChoice choice;
    if (chosen_only) {
        choice.only = {scan->crossings[std::size_t(i)].id};
        choice.flow = choice.lines = false;
    }
    auto remarks = std::make_shared<QString>();
    run(chosen_only ? "Close a crossing" : "Close crossings",
        [choice, remarks](const Project& project, const Shot& shot, Composer& composer,
                          const BackgroundJob::Tell& tell, const Cancel& cancel) {
            ClosedCrossings closed = close_crossings(
                project, shot, composer, choice,
                [&](double share, const std::string& doing) { tell(share, QString::fromStdString(doing)); },
                cancel);
            if (!closed.remarks.empty()) {
                std::string all;
                for (const auto& r : closed.remarks) all += (all.empty() ? "" : "; ") + r;
                *remarks = QString::fromStdString(all);
            }
            return closed.shot;
        });
    connect(
        &job_, &BackgroundJob::ended, this,
        [this, remarks] {
            if (!remarks->isEmpty()) session_.say(*remarks, Signal::care);
        },
        Qt::SingleShotConnection);
}

void CrossingsPart::go_to(int index) {
    const CrossingScan* scan = found();
    if (!scan || index < 0 || index >= int(scan->crossings.size())) return;
    tool_.select(index);
    const Crossing& c = scan->crossings[std::size_t(index)];
    if (session_.playhead() < c.from || session_.playhead() > c.to) {
        const Shot* shot = session_.shot();
        session_.set_playhead(
            frame_time(frame_index(middle_of(c).time, shot->timing.rate), shot->timing.rate));
    }
    look_at_chosen();
}

void CrossingsPart::look_at_chosen() {
    const CrossingScan* scan = found();
    const int index = tool_.selected();
    if (!scan || index < 0 || index >= int(scan->crossings.size()) || picture_.mode() != ViewMode::window)
        return;
    Shelter along;
    along.keys = scan->crossings[std::size_t(index)].path;
    const Vec3 d = orientation_at(*session_.shot(), session_.playhead()) *
                   direction_of(oval_at(along, session_.playhead()));
    picture_.set_look(turn_towards(d), picture_.field_of_view());
}

void CrossingsPart::go_to_open(int direction) {
    const CrossingScan* scan = found();
    if (!scan) return;
    int best = -1;
    for (int i = 0; i < int(scan->crossings.size()); ++i) {
        const Crossing& c = scan->crossings[std::size_t(i)];
        if (!is_open(c) || i == tool_.selected()) continue;
        const bool beyond =
            direction > 0 ? middle_of(c).time > session_.playhead() : middle_of(c).time < session_.playhead();
        if (!beyond) continue;
        if (best < 0 ||
            (direction > 0) == (middle_of(c).time < middle_of(scan->crossings[std::size_t(best)]).time))
            best = i;
    }
    if (best < 0) return session_.say("No open crossing that way.");
    const Shot* shot = session_.shot();
    session_.set_playhead(
        frame_time(frame_index(middle_of(scan->crossings[std::size_t(best)]).time, shot->timing.rate),
                   shot->timing.rate));
    go_to(best);
}

void CrossingsPart::make_pictures() {
    const Shot* shot = session_.shot();
    if (!shot || !shot->seams.crossings || pictures_.is_running()) return;
    const auto paths = [](const CrossingScan& s) {
        std::vector<std::vector<ShelterKey>> all;
        for (const Crossing& c : s.crossings) all.push_back(c.path);
        return all;
    };
    if (small_.size() == (*shot->seams.crossings)->crossings.size() &&
        paths(*pictured_) == paths(**shot->seams.crossings))
        return;
    const Shared<CrossingScan> scan = *shot->seams.crossings;
    pictured_ = scan;
    small_.assign(scan->crossings.size(), {});
    pictures_.start([this, scan, project = session_.project(), id = shot->id, library = session_.library()](
                        const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
        Composer composer(library);
        Shot plain = *find_shot(*project, id);
        plain.seams.flow.on = false; // what matters is who it is
        plain.seams.blend.kind = Blending::feathered;
        plain.look.denoise.on = false;
        plain.seams.shelters.clear();
        plain.levelling.orientation = {};
        plain.levelling.orientation_keys.clear();
        plain.levelling.steady.reset();
        auto made = std::make_shared<std::vector<QImage>>();
        for (const Crossing& c : scan->crossings) {
            cancel.check();
            const ShelterKey& o = middle_of(c);
            View view;
            view.target =
                window_target(kPictureWidth * 2, kPictureHeight * 2, {o.yaw_deg, o.pitch_deg, 0},
                              std::clamp(1.6 * std::max(o.width_deg, 1.5 * o.height_deg), 20.0, 100.0));
            view.filter = Filter::linear;
            try {
                made->push_back(image_of(composer.compose(*project, plain, o.time, view)));
            } catch (const std::exception&) {
                made->push_back({}); // what is wrong with a source is said where it is used
            }
        }
        return [this, made] { small_ = *made; };
    });
}

void CrossingsPart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const CrossingScan* scan = found();
    const QSignalBlocker block(table_);
    if (!scan) {
        table_->setRowCount(0);
        figure_->setText("not looked for");
        told_->setText(
            "People and things that walk from one camera into the next are doubled or cut there unless "
            "something is done. Look through the shot to find them.");
        says_->clear();
        for (auto* b : {close_all_, close_one_, leave_, measure_}) b->setEnabled(false);
        return;
    }
    const auto& list = scan->crossings;
    const auto open = std::count_if(list.begin(), list.end(), is_open);
    figure_->setText(list.empty() ? "none" : QString("%1 open").arg(open));
    told_->setText(list.empty() ? "Nothing passes a seam in front of what is behind it."
                                : QString("of %1 crossings between %2 and %3 s")
                                      .arg(list.size())
                                      .arg(seconds(scan->from), seconds(scan->to)));
    const bool free = !job_.is_running();
    scan_->setEnabled(free);
    close_all_->setEnabled(free && open > 0);
    measure_->setEnabled(free && !list.empty());
    table_->setRowCount(int(list.size()));
    for (int r = 0; r < int(list.size()); ++r) {
        const Crossing& c = list[std::size_t(r)];
        const auto cell = [&](int column, const QString& text) {
            QTableWidgetItem* item = table_->item(r, column);
            if (!item) table_->setItem(r, column, item = new QTableWidgetItem);
            item->setText(text);
            item->setTextAlignment(column == 3 ? Qt::AlignRight | Qt::AlignVCenter
                                               : Qt::Alignment(Qt::AlignCenter));
            item->setForeground(c.dismissed ? colour::faint : colour::text);
            return item;
        };
        auto* picture = cell(0, "");
        if (std::size_t(r) < small_.size() && !small_[std::size_t(r)].isNull())
            picture->setIcon(QIcon(QPixmap::fromImage(small_[std::size_t(r)])));
        else
            picture->setIcon({});
        cell(1, seconds(c.from) + " –\n" + seconds(c.to));
        cell(2, QString::fromStdString(c.a + " – " + c.b));
        cell(3,
             QString("%1 px").arg(c.visible_parallax_px, 0, 'f', 0) +
                 (c.torn_px >= kVisibleTear_px ? QString("\n%1 torn").arg(c.torn_px, 0, 'f', 0) : QString()))
            ->setToolTip(
                QString("Its two pictures are %1 px apart at the agree distance; %2 px of edges are torn, "
                        "which no source shows")
                    .arg(c.apart_px, 0, 'f', 0)
                    .arg(c.torn_px, 0, 'f', 0));
        cell(4, state_of(c))
            ->setForeground(is_open(c)    ? colour::care
                            : c.dismissed ? colour::faint
                                          : colour::good);
    }
    const int index = tool_.selected();
    const bool chosen = index >= 0 && index < int(list.size());
    if (chosen)
        table_->selectRow(index);
    else
        table_->clearSelection();
    close_one_->setEnabled(free && chosen && is_open(list[std::size_t(index)]));
    leave_->setEnabled(free && chosen);
    leave_->setText(chosen && list[std::size_t(index)].dismissed ? "Take it up again" : "Ignore");
    if (!chosen)
        says_->setText(list.empty() ? "" : "Choose one to go there.");
    else {
        const Crossing& c = list[std::size_t(index)];
        says_->setText(is_open(c) ? QString("%1 px show and %2 px of edges are torn between %3 and %4.")
                                        .arg(c.visible_parallax_px, 0, 'f', 0)
                                        .arg(c.torn_px, 0, 'f', 0)
                                        .arg(QString::fromStdString(c.a), QString::fromStdString(c.b))
                       : c.shelter.empty()
                           ? QString("Nothing of it shows.")
                           : "Kept whole by the shelter “" + QString::fromStdString(c.shelter) + "”.");
    }
    if (isVisible()) make_pictures();
}

} // namespace porb::app
