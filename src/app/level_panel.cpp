#include "app/level_panel.h"

#include "app/number_field.h"
#include "base/angle.h"

#include <QFormLayout>
#include <QPushButton>

namespace porb::app {

LevelPanel::LevelPanel(Session& session, PictureArea& picture, QWidget* parent)
    : Panel("Level",
            "Drag the sphere in the map or window until it stands upright and faces what matters, or type "
            "the angles.",
            parent),
      session_(session), picture_(picture) {
    setObjectName("level_panel");
    lean_ = new QLabel;
    lean_->setObjectName("lean_label");
    lean_->setProperty("role", "figure");
    column()->addWidget(lean_);
    group("ORIENTATION");
    auto* form = new QFormLayout;
    const auto field = [&](const char* name, double limit, const char* object) {
        auto* f = new NumberField(-limit, limit, 0.1, 2, "°");
        f->setObjectName(object);
        f->setWrapping(limit == 180);
        form->addRow(name, f);
        connect(f, &NumberField::edited, this, [this, name] {
            set(QString("Set %1").arg(QString(name).toLower()),
                {yaw_->value(), pitch_->value(), roll_->value()}, QString("level-") + name);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    yaw_ = field("Yaw (heading)", 180, "level_yaw");
    pitch_ = field("Pitch", 90, "level_pitch");
    roll_ = field("Roll", 180, "level_roll");
    column()->addLayout(form);
    auto* hold = new QCheckBox("Hold pitch and roll while dragging");
    hold->setObjectName("hold_pitch_roll");
    column()->addWidget(hold);
    connect(hold, &QCheckBox::toggled, this,
            [this](bool on) { picture_.set_level_hold(on ? LevelHold::pitch_and_roll : LevelHold::none); });
    group("AT ONCE");
    const auto button = [&](const QString& text, auto action) {
        auto* b = new QPushButton(text);
        column()->addWidget(b);
        connect(b, &QPushButton::clicked, this, action);
    };
    button("Face what the window looks at", [this] {
        if (!session_.shot()) return;
        const double yaw = picture_.look().yaw_deg;
        set("Face the window's heading",
            turn_of(rotation_of({-yaw, 0, 0}) * rotation_of(session_.shot()->orientation)));
        picture_.set_look({0, picture_.look().pitch_deg, 0}, picture_.field_of_view());
    });
    button("Turn by 90°", [this] {
        if (session_.shot())
            set("Turn by 90°", turn_of(rotation_of({90, 0, 0}) * rotation_of(session_.shot()->orientation)));
    });
    button("Rig hung upside down", [this] {
        if (session_.shot())
            set("Turn upside down",
                turn_of(rotation_of({0, 0, 180}) * rotation_of(session_.shot()->orientation)));
    });
    button("As the rig stood (all 0°)", [this] { set("Reset the orientation", {}); });
    column()->addStretch(1);
    connect(&session_, &Session::project_changed, this, &LevelPanel::refresh_if_seen);
    refresh();
}

void LevelPanel::set(const QString& label, const Turn& turn, const QString& key) {
    session_.edit_shot(
        label, [&](Shot& s) { s.orientation = tidied(turn); }, key);
}

void LevelPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const Turn t = shot ? shot->orientation : Turn{};
    yaw_->set_quietly(t.yaw_deg);
    pitch_->set_quietly(t.pitch_deg);
    roll_->set_quietly(t.roll_deg);
    const Vec3 up = rotation_of(t) * Vec3(0, -1, 0);
    lean_->setText(QString("%1° from the rig's own upright")
                       .arg(degrees(std::acos(std::clamp(-up.y(), -1.0, 1.0))), 0, 'f', 1));
    lean_->setStyleSheet("font-size: 15px;");
}

} // namespace porb::app
