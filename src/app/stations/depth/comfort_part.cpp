#include "app/stations/depth/comfort_part.h"

#include "app/picture/picture_service.h"
#include "app/session/job_bar.h"
#include "app/stations/depth/disparity_plot.h"
#include "app/stations/depth/region_map.h"
#include "app/widgets/number_field.h"
#include "app/widgets/panel.h"
#include "app/widgets/parts_row.h"
#include "app/widgets/theme.h"
#include "project/limits.h"
#include "stereo/comfort.h"

#include <QHeaderView>
#include <QLabel>
#include <QPainter>
#include <QScrollBar>
#include <QSignalBlocker>
#include <QTableWidget>

namespace porb::app {

namespace {
constexpr double kWindow_deg = 60, kSmall_deg = 24; ///< in which a place is looked at, and its small picture
constexpr int kSignal = 16;
constexpr int kEye = 44, kBetween = 2; ///< pixels of one eye's small picture, and between both
} // namespace

ComfortPart::ComfortPart(Session& session, PictureArea& picture, EyeMeasures& measures, QWidget* parent)
    : QWidget(parent), session_(session), picture_(picture), measures_(measures), pictures_(this) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* budget = new QHBoxLayout;
    const auto field = [&](const QString& name, const char* object, const QString& tip,
                           double ComfortBudget::*what) {
        auto* f = new NumberField(limits::kComfort_deg, 0.1, 2, "°");
        f->setObjectName(object);
        f->setToolTip(tip);
        budget->addWidget(new QLabel(name));
        budget->addWidget(f, 1);
        connect(f, &NumberField::edited, this, [this, object, what](double v) {
            session_.edit_shot(
                "Set the comfort budget", [&](Shot& s) { s.stereo.comfort.*what = v; }, object);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    near_ = field("Near", "comfort_near", "Disparity of the nearest that a viewer is to fuse",
                  &ComfortBudget::near_deg);
    far_ = field("Far", "comfort_far", "And of the farthest", &ComfortBudget::far_deg);
    column->addLayout(budget);
    plot_ = new DisparityPlot;
    column->addWidget(plot_);
    auto* buttons = new QHBoxLayout;
    measure_ = add_button(buttons, "Measure all of it", "eyes_measure",
                          "Compares both eyes over the whole shot, a moment a second (Shift+E)");
    measure_->setProperty("role", "main");
    fit_ = add_button(
        buttons, "Fit to the budget", "eyes_fit",
        "Chooses convergence, and how far apart drawn eyes stand, so that what was measured lies within");
    column->addLayout(buttons);
    connect(measure_, &QPushButton::clicked, this, [this] { measures_.measure(); });
    connect(fit_, &QPushButton::clicked, this, &ComfortPart::fit);
    by_itself_ = new QCheckBox("Measure some moments whenever it rests");
    by_itself_->setObjectName("eyes_by_themselves");
    by_itself_->setToolTip("In the background while Depth is open: up to 24 moments, spread over the shot");
    by_itself_->setChecked(EyeMeasures::by_themselves());
    connect(by_itself_, &QCheckBox::toggled, this, [this](bool on) {
        EyeMeasures::set_by_themselves(on);
        measures_.disturb(); // begins, or ends, what runs by itself
    });
    column->addWidget(by_itself_);
    column->addWidget(new JobBar(measures_.job(), session_, "eyes", "what was measured before"));
    figures_ = new QLabel;
    figures_->setObjectName("eyes_figures");
    figures_->setWordWrap(true);
    column->addWidget(figures_);
    regions_ = new RegionMap;
    connect(regions_, &RegionMap::chosen, this, [this](EyeRegion region) {
        look_at(region == EyeRegion::above   ? Vec3(0, -1, 1e-3)
                : region == EyeRegion::below ? Vec3(0, 1, 1e-3)
                                             : forward_of({90.0 * int(region), 0, 0}));
    });
    column->addWidget(regions_);
    table_ = new QTableWidget(0, 2);
    table_->setObjectName("eye_findings");
    table_->horizontalHeader()->hide();
    table_->verticalHeader()->hide();
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Fixed);
    table_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
    table_->setColumnWidth(0, 2 * kEye + kBetween + 8);
    table_->setIconSize(QSize(2 * kEye + kBetween, kEye));
    table_->verticalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    table_->setWordWrap(true);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Ignored);
    table_->setMinimumHeight(110);
    column->addWidget(table_, 1);
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int now) { go_to(now); });
    mend_ = new QLabel;
    mend_->setObjectName("eye_mend");
    mend_->setWordWrap(true);
    mend_->setProperty("role", "hint");
    column->addWidget(mend_);
    connect(&measures_.job(), &BackgroundJob::ended, this, [this](const QString&, bool) {
        if (isVisible()) make_pictures();
    });
    connect(&pictures_, &BackgroundJob::ended, this, [this](const QString&, bool) {
        if (isVisible()) show_findings();
    });
}

void ComfortPart::fit() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (measures_.moments().empty())
        return measures_.measure([this] {
            if (!measures_.moments().empty()) fit();
        });
    try {
        const ComfortFit fitted = fitted_to_comfort(*shot, measures_.moments());
        session_.edit_shot("Fit to the comfort budget", [&](Shot& s) {
            s.stereo.ipd_m = fitted.ipd_m, s.stereo.converge_m = fitted.converge_m;
            s.stereo.keys.clear();
        });
        session_.say(
            fitted.fits
                ? QString("Disparity from %1° to %2° now")
                      .arg(fitted.farthest_deg, 0, 'f', 2)
                      .arg(fitted.nearest_deg, 0, 'f', 2)
                : QString("The cameras stand too far apart for the budget: what is far lies past it, at %1°")
                      .arg(fitted.farthest_deg, 0, 'f', 2),
            fitted.fits ? Signal::good : Signal::care);
        if (measures_.is_out_of_date()) measures_.measure(); // drawn from elsewhere now
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::care);
    }
}

void ComfortPart::look_at(const Vec3& direction) {
    picture_.set_mode(ViewMode::window);
    picture_.set_look(turn_towards(direction), kWindow_deg);
}

void ComfortPart::go_to(int row) {
    mend_->clear();
    if (row < 0 || row >= int(rows_.size())) return;
    const EyeFinding f = rows_[std::size_t(row)]; // the list may be made anew on the way
    mend_->setText(QString::fromStdString(f.mend + "."));
    if (f.time) session_.set_playhead(*f.time);
    if (f.direction) look_at(*f.direction);
}

void ComfortPart::show_findings() {
    std::vector<EyeFinding> rows = measures_.findings();
    const std::size_t places_from = rows.size();
    rows.insert(rows.end(), measures_.worst().begin(), measures_.worst().end());
    // The list grows while it is measured: who reads it keeps place and choice.
    const int scrolled = table_->verticalScrollBar()->value(), before = table_->currentRow();
    int chosen = -1;
    if (before >= 0 && before < int(rows_.size()))
        chosen = int(std::find_if(rows.begin(), rows.end(),
                                  [&](const EyeFinding& f) {
                                      const EyeFinding& was = rows_[std::size_t(before)];
                                      return f.what == was.what && f.time == was.time;
                                  }) -
                     rows.begin());
    if (chosen >= int(rows.size())) chosen = -1;
    rows_ = std::move(rows);
    const QSignalBlocker quiet(table_);
    table_->setRowCount(0);
    table_->setRowCount(std::max<int>(1, int(rows_.size())));
    for (int i = 0; i < int(rows_.size()); ++i) {
        const EyeFinding& f = rows_[std::size_t(i)];
        const bool place = std::size_t(i) >= places_from;
        auto* picture = new QTableWidgetItem;
        if (place) {
            const Pictured here{*f.time, *f.direction, measures_.state()};
            const auto at = std::find(pictured_.begin(), pictured_.end(), here) - pictured_.begin();
            if (at < std::ptrdiff_t(small_.size()) && !small_[std::size_t(at)].isNull())
                picture->setIcon(QIcon(QPixmap::fromImage(small_[std::size_t(at)])));
            picture->setToolTip("The left eye's picture and the right one's");
        } else {
            picture->setIcon(signal_icon(f.stops ? Signal::stop : Signal::care).pixmap(kSignal, kSignal));
        }
        table_->setItem(i, 0, picture);
        const QString what = QString::fromStdString(f.what);
        auto* words = new QTableWidgetItem(
            place ? QString("%1 s: %2").arg(f.time->to_double(), 0, 'f', 2).arg(what) : what);
        words->setToolTip(what + ". " + QString::fromStdString(f.mend) + ".");
        table_->setItem(i, 1, words);
    }
    if (rows_.empty()) {
        table_->setItem(0, 0, new QTableWidgetItem(signal_icon(Signal::good), ""));
        table_->setItem(0, 1,
                        new QTableWidgetItem(measures_.moments().empty()
                                                 ? "Nothing odd about rig and settings"
                                                 : "Nothing that a viewer would suffer from"));
    }
    table_->setCurrentCell(chosen, 0);
    table_->verticalScrollBar()->setValue(scrolled);
    if (chosen < 0) mend_->setText(rows_.empty() ? "" : "Choose one to go there and to see what mends it.");
    make_pictures();
}

void ComfortPart::make_pictures() {
    const Shot* shot = session_.shot();
    if (!shot || pictures_.is_running() || measures_.job().is_running()) return;
    std::vector<Pictured> wanted;
    for (const EyeFinding& f : measures_.worst())
        wanted.push_back({*f.time, *f.direction, measures_.state()});
    if (wanted == pictured_) return;
    pictured_ = wanted;
    small_.clear();
    if (wanted.empty()) return;
    pictures_.start([this, wanted, project = session_.project(), id = shot->id,
                     composer_of = measures_.composer()](const BackgroundJob::Tell&,
                                                         const Cancel& cancel) -> BackgroundJob::Finish {
        const Shot& of = *find_shot(*project, id);
        const auto composer = composer_of(*project, of);
        std::vector<QImage> made;
        for (const Pictured& p : wanted) {
            QImage both(2 * kEye + kBetween, kEye, QImage::Format_RGB32);
            both.fill(colour::field);
            QPainter painter(&both);
            View view;
            view.target = window_target(kEye, kEye, turn_towards(p.direction), kSmall_deg);
            try {
                view.eye = Eye::left;
                painter.drawImage(0, 0, image_of(composer->compose(*project, of, p.time, view, cancel)));
                view.eye = Eye::right;
                painter.drawImage(kEye + kBetween, 0,
                                  image_of(composer->compose(*project, of, p.time, view, cancel)));
            } catch (const Error&) {
                // what is wrong with a source is said where it is used
            }
            painter.end();
            made.push_back(both);
        }
        return [this, made] { small_ = made; };
    });
}

void ComfortPart::show_figures() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const EyeMoment* nearest = nullptr;
    const auto away = [&](const EyeMoment& m) {
        return std::abs((m.time - session_.playhead()).to_double());
    };
    for (const EyeMoment& m : measures_.moments())
        if (!nearest || away(m) < away(*nearest)) nearest = &m;
    plot_->show_moment(nearest, shot->stereo.comfort);
    regions_->show_regions(measures_.regions());
    if (!nearest) {
        figures_->setText(measures_.is_out_of_date() ? "Changed since both eyes were measured." : "");
        return;
    }
    const EyeSummary s = summary_of(*nearest, *shot);
    const auto ev = [&](std::size_t c) {
        return QString::asprintf("%+.2f", std::abs(s.ev[c]) < 0.005 ? 0 : s.ev[c]);
    };
    figures_->setText(QString("At %1 s: vertical %2 px (%3′), 95 % under %4 px; %5 % outside the budget; "
                              "right eye red %6, green %7, "
                              "blue %8 EV, %9 % as sharp")
                          .arg(s.time.to_double(), 0, 'f', 2)
                          .arg(s.vertical_px, 0, 'f', 2)
                          .arg(s.vertical_arcmin, 0, 'f', 1)
                          .arg(s.vertical_95_px, 0, 'f', 2)
                          .arg(100 * s.outside, 0, 'f', 1)
                          .arg(ev(0), ev(1), ev(2))
                          .arg(100 * std::exp2(s.sharper), 0, 'f', 0));
    figures_->setToolTip("Vertical disparity in pixels of a picture 3840 wide; it should be nothing");
}

void ComfortPart::refresh() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    near_->set_quietly(shot->stereo.comfort.near_deg);
    far_->set_quietly(shot->stereo.comfort.far_deg);
    for (QWidget* w : std::initializer_list<QWidget*>{measure_, fit_, by_itself_})
        w->setEnabled(measures_.has_two_eyes());
    show_figures();
    show_findings();
}

} // namespace porb::app
