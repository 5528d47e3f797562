#include "app/stations/seams/area_distance_row.h"

#include "app/picture/measure_tool.h"
#include "app/widgets/number_field.h"
#include "base/error.h"
#include "project/limits.h"
#include "project/orientation.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QPushButton>
#include <QSignalBlocker>

namespace porb::app {

namespace {
enum Choice { kAround, kMetres, kFar, kPlane };
constexpr double kUsual_m = 2; ///< where one begins to try
int row_of(const AreaDistance& d) {
    return d.rule == DistanceRule::surroundings ? kAround
           : d.rule == DistanceRule::plane      ? kPlane
           : d.metres > 0                       ? kMetres
                                                : kFar;
}
} // namespace

AreaDistanceRow::AreaDistanceRow(const QString& name, Session& session, MeasureTool& tool, QWidget* parent)
    : QWidget(parent), session_(session), tool_(tool) {
    setObjectName(name);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    rule_ = new QComboBox;
    rule_->setObjectName(name + "_rule");
    rule_->addItems({"As what lies about it", "At", "Far", "On a plane"});
    rule_->setToolTip(
        "How far away what is inside is drawn: evenly, as its surroundings say; at one distance from the "
        "rig; infinitely far; or on a plane, as floors and panes are");
    metres_ = new NumberField(limits::kDistance_m, 0.05, 2, " m");
    metres_->setObjectName(name + "_metres");
    metres_->setToolTip("Metres from the rig's centre");
    plane_ = new QPushButton("Three clicks");
    plane_->setObjectName(name + "_plane");
    plane_->setToolTip("Click three places of the plane at which distances are found");
    row->addWidget(rule_, 1);
    row->addWidget(metres_);
    row->addWidget(plane_);
    connect(rule_, &QComboBox::activated, this, [this](int at) {
        AreaDistance next = shown_;
        switch (at) {
        case kAround:
            next.rule = DistanceRule::surroundings;
            break;
        case kFar:
            next.rule = DistanceRule::metres, next.metres = 0;
            break;
        case kMetres:
            next.rule = DistanceRule::metres;
            if (next.metres <= 0) next.metres = kUsual_m;
            break;
        default:
            show_distance(shown_); // until the plane is known
            return pick_plane();
        }
        emit edited(next, {});
    });
    connect(metres_, &NumberField::edited, this, [this](double v) {
        AreaDistance next = shown_;
        next.rule = DistanceRule::metres, next.metres = v;
        emit edited(next, objectName());
    });
    connect(metres_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(plane_, &QPushButton::clicked, this, &AreaDistanceRow::pick_plane);
    show_distance({});
}

void AreaDistanceRow::show_distance(const AreaDistance& distance) {
    shown_ = distance;
    const QSignalBlocker block(rule_);
    rule_->setCurrentIndex(row_of(distance));
    metres_->setVisible(row_of(distance) == kMetres);
    metres_->set_quietly(distance.metres);
    plane_->setVisible(row_of(distance) == kPlane);
}

void AreaDistanceRow::pick_plane() {
    tool_.pick_plane([this](const std::array<Vec3, 3>& world, const std::array<double, 3>& inverse_m) {
        const Shot* shot = session_.shot();
        if (!shot) return;
        std::array<Vec3, 3> directions;
        std::array<double, 3> metres{};
        for (std::size_t i = 0; i < 3; ++i) {
            directions[i] = in_rig_axes(*shot, session_.playhead(), world[i]);
            metres[i] = 1 / inverse_m[i];
        }
        AreaDistance next = shown_;
        next.rule = DistanceRule::plane;
        try {
            next.plane_per_m = plane_through(directions, metres);
        } catch (const Error& e) {
            return session_.say(QString::fromStdString(words_of(e)), Signal::care);
        }
        emit edited(next, {});
    });
}

} // namespace porb::app
