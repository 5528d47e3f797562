#include "app/rig_panel.h"

#include "app/lens_plot.h"
#include "app/number_field.h"
#include "app/rig_dialogs.h"
#include "app/theme.h"
#include "base/angle.h"
#include "base/error.h"
#include "media/motion.h"
#include "project/camera_edits.h"
#include "project/origins.h"
#include "project/takes.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QHeaderView>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPushButton>
#include <QStyledItemDelegate>
#include <QToolButton>

#include <array>

namespace porb::app {

namespace {

/// One row: what it is called, its unit, decimals and drag step, and how it is read and written.
struct Row {
    const char* name;
    const char* unit;
    int decimals;
    double step;
    double (*get)(const Camera&);
    void (*set)(Camera&, double);
    CameraValue value = CameraValue::kind;
    bool alike = true; ///< alike cameras take the same value; otherwise the same change
};

#define PORB_GET [](const Camera& c) -> double
#define PORB_SET [](Camera & c, double v)
const std::vector<Row>& rows() {
    using enum CameraValue;
    static const std::vector<Row> all = {
        {"Lens kind", "", 0, 0, nullptr, nullptr, kind}, {"Eye", "", 0, 0, nullptr, nullptr, kind},
        {"View across circle", "°", 2, 0.1, PORB_GET{return field_of_view_deg(c.lens);
}
, PORB_SET {
    c.lens.focal_px = focal_for_field_of_view(c.lens, std::clamp(v, 1.0, 360.0));
}
, focal
} // namespace
, {"View across picture", "°", 2, 0.1, PORB_GET{return picture_field_of_view_deg(c.lens);
} // namespace porb::app
, PORB_SET {
    c.lens.focal_px = focal_for_picture_field_of_view(c.lens, v);
}
, focal
}
, {"Focal length", "px", 2, 0.5, PORB_GET{return c.lens.focal_px;
}
, PORB_SET {
    c.lens.focal_px = v;
}
, focal
}
, {"Focal length", "mm", 4, 0.001, PORB_GET{return focal_mm(c.lens);
}
, PORB_SET {
    if (c.lens.pixel_pitch_um > 0) c.lens.focal_px = v * 1000 / c.lens.pixel_pitch_um;
}
, focal
}
, {"Pixel pitch", "µm", 3, 0.01, PORB_GET{return c.lens.pixel_pitch_um;
}
, PORB_SET {
    c.lens.pixel_pitch_um = v;
}
, focal
}
, {"Sensor width", "mm", 3, 0.01, PORB_GET{return sensor_width_mm(c.lens);
}
, PORB_SET {
    c.lens.pixel_pitch_um = v * 1000 / c.lens.width;
}
, focal
}
, {"Centre x", "px", 1, 0.5, PORB_GET{return c.lens.center_px.x();
}
, PORB_SET {
    c.lens.center_px.x() = v;
}
, centre, false
}
, {"Centre y", "px", 1, 0.5, PORB_GET{return c.lens.center_px.y();
}
, PORB_SET {
    c.lens.center_px.y() = v;
}
, centre, false
}
, {"Circle x", "px", 1, 0.5, PORB_GET{return c.lens.circle.center_px.x();
}
, PORB_SET {
    c.lens.circle.center_px.x() = v;
}
, circle, false
}
, {"Circle y", "px", 1, 0.5, PORB_GET{return c.lens.circle.center_px.y();
}
, PORB_SET {
    c.lens.circle.center_px.y() = v;
}
, circle, false
}
, {"Circle radius", "px", 1, 0.5, PORB_GET{return c.lens.circle.radius_px;
}
, PORB_SET {
    c.lens.circle.radius_px = v;
}
, circle
}
, {"Distortion k1", "", 5, 0.0005, PORB_GET{return c.lens.radial[0];
}
, PORB_SET {
    c.lens.radial[0] = v;
}
, distortion
}
, {"Distortion k2", "", 5, 0.0005, PORB_GET{return c.lens.radial[1];
}
, PORB_SET {
    c.lens.radial[1] = v;
}
, distortion
}
, {"Distortion k3", "", 5, 0.0005, PORB_GET{return c.lens.radial[2];
}
, PORB_SET {
    c.lens.radial[2] = v;
}
, distortion
}
, {"Distortion k4", "", 5, 0.0005, PORB_GET{return c.lens.radial[3];
}
, PORB_SET {
    c.lens.radial[3] = v;
}
, distortion
}
, {"Yaw", "°", 2, 0.1, PORB_GET{return c.pose.turn.yaw_deg;
}
, PORB_SET {
    c.pose.turn.yaw_deg = wrapped_deg(v);
}
, turn, false
}
, {"Pitch", "°", 2, 0.1, PORB_GET{return c.pose.turn.pitch_deg;
}
, PORB_SET {
    c.pose.turn.pitch_deg = std::clamp(v, -90.0, 90.0);
}
, turn, false
}
, {"Roll", "°", 2, 0.1, PORB_GET{return c.pose.turn.roll_deg;
}
, PORB_SET {
    c.pose.turn.roll_deg = wrapped_deg(v);
}
, turn, false
}
, {"Position x", "m", 4, 0.001, PORB_GET{return c.pose.position_m.x();
}
, PORB_SET {
    c.pose.position_m.x() = v;
}
, position, false
}
, {"Position y", "m", 4, 0.001, PORB_GET{return c.pose.position_m.y();
}
, PORB_SET {
    c.pose.position_m.y() = v;
}
, position, false
}
, {"Position z", "m", 4, 0.001, PORB_GET{return c.pose.position_m.z();
}
, PORB_SET {
    c.pose.position_m.z() = v;
}
, position, false
}
,
}
;
return all;
}
#undef PORB_GET
#undef PORB_SET

constexpr int kKindRow = 0, kEyeRow = 1, kPictureViewRow = 3;
constexpr std::array<Projection, 5> kKinds = {Projection::equidistant, Projection::equisolid,
                                              Projection::stereographic, Projection::orthographic,
                                              Projection::rectilinear};
const std::array<const char*, 3> kEyeNames = {"both", "left", "right"};

/// A drop-down in the two rows that hold words.
class WordDelegate : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    QWidget* createEditor(QWidget* parent, const QStyleOptionViewItem& option,
                          const QModelIndex& index) const override {
        if (index.row() > kEyeRow) return QStyledItemDelegate::createEditor(parent, option, index);
        auto* box = new QComboBox(parent);
        if (index.row() == kKindRow)
            for (const auto k : kKinds) box->addItem(name_of(k));
        else
            for (const auto* e : kEyeNames) box->addItem(e);
        connect(box, &QComboBox::activated, box,
                [this, box] { emit const_cast<WordDelegate*>(this)->commitData(box); });
        return box;
    }
    void setEditorData(QWidget* editor, const QModelIndex& index) const override {
        if (auto* box = qobject_cast<QComboBox*>(editor))
            box->setCurrentText(index.data(Qt::DisplayRole).toString());
        else
            QStyledItemDelegate::setEditorData(editor, index);
    }
    void setModelData(QWidget* editor, QAbstractItemModel* model, const QModelIndex& index) const override {
        if (auto* box = qobject_cast<QComboBox*>(editor))
            model->setData(index, box->currentText(), Qt::EditRole);
        else
            QStyledItemDelegate::setModelData(editor, model, index);
    }
};

} // namespace

RigModel::RigModel(Session& session, QObject* parent) : QAbstractTableModel(parent), session_(session) {
    connect(&session_, &Session::project_changed, this, [this] {
        const int now = session_.shot() ? int(session_.shot()->rig.cameras.size()) : 0;
        if (now != columns_) {
            beginResetModel();
            columns_ = now;
            endResetModel();
        } else if (now > 0) {
            emit dataChanged(index(0, 0), index(rowCount() - 1, columns_ - 1));
        }
    });
    columns_ = session_.shot() ? int(session_.shot()->rig.cameras.size()) : 0;
}

int RigModel::rowCount(const QModelIndex&) const {
    return int(rows().size());
}
int RigModel::columnCount(const QModelIndex&) const {
    return columns_;
}
bool RigModel::is_number(const QModelIndex& i) const {
    return i.isValid() && rows()[std::size_t(i.row())].get != nullptr;
}
double RigModel::value(const QModelIndex& i) const {
    return rows()[std::size_t(i.row())].get(session_.shot()->rig.cameras[std::size_t(i.column())]);
}

QVariant RigModel::data(const QModelIndex& i, int role) const {
    if (!i.isValid() || !session_.shot() || i.column() >= int(session_.shot()->rig.cameras.size())) return {};
    const Camera& camera = session_.shot()->rig.cameras[std::size_t(i.column())];
    const Row& row = rows()[std::size_t(i.row())];
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignRight | Qt::AlignVCenter);
    if (role == Qt::ToolTipRole) return origin_words(i) + (row.get ? "\nType a value, or drag sideways" : "");
    const ShotCamera* use = find_camera(*session_.shot(), camera.id);
    if (role == Qt::ForegroundRole && use && row.get) {
        const Camera* from = profile_camera(*session_.shot(), camera.id);
        if (from && std::abs(row.get(*from) - row.get(camera)) > 1e-9)
            return colour::accent; // departs from the profile
        if (origin_of(*use, row.value).kind == OriginKind::assumed) return colour::muted;
        return {};
    }
    if (role == Qt::DecorationRole && use && row.get) {
        const bool pose = row.value == CameraValue::turn || row.value == CameraValue::position;
        if (pose ? use->pose_locked : use->lens_locked) return icon("lock").pixmap(11, 11);
        return {};
    }
    if (role == Qt::DisplayRole && row.get && std::string_view(row.unit) != "px" &&
        (std::string_view(row.unit) == "mm" || std::string_view(row.unit) == "µm") &&
        camera.lens.pixel_pitch_um == 0)
        return "—";
    if (role == Qt::DisplayRole && i.row() == kPictureViewRow && row.get(camera) == 0) return "—";
    if (role != Qt::DisplayRole && role != Qt::EditRole) return {};
    if (i.row() == kKindRow) return name_of(camera.lens.projection);
    if (i.row() == kEyeRow) return kEyeNames[std::size_t(camera.eyes)];
    return QString::number(row.get(camera), 'f', row.decimals);
}

QVariant RigModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation == Qt::Vertical) {
        if (role != Qt::DisplayRole) return {};
        const Row& row = rows()[std::size_t(section)];
        return QString::fromUtf8(row.name) + (*row.unit ? QString("  ") + row.unit : "");
    }
    if (!session_.shot() || section >= int(session_.shot()->rig.cameras.size())) return {};
    if (role == Qt::DisplayRole)
        return QString::fromStdString(session_.shot()->rig.cameras[std::size_t(section)].id);
    if (role == Qt::ForegroundRole) return colour::lens(section);
    return {};
}

Qt::ItemFlags RigModel::flags(const QModelIndex&) const {
    return Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsEditable;
}

std::vector<std::string> RigModel::targets(const QModelIndex& i) const {
    const Rig& rig = session_.shot()->rig;
    std::vector<std::string> out{rig.cameras[std::size_t(i.column())].id};
    const auto add = [&](const std::string& id) {
        if (std::find(out.begin(), out.end(), id) == out.end()) out.push_back(id);
    };
    if (std::find(also_columns_.begin(), also_columns_.end(), i.column()) != also_columns_.end())
        for (const int c : also_columns_)
            if (c < int(rig.cameras.size())) add(rig.cameras[std::size_t(c)].id);
    if (alike_)
        for (const auto& id : alike_cameras(rig, out.front())) add(id);
    return out;
}

QString RigModel::origin_words(const QModelIndex& i) const {
    const Shot* shot = session_.shot();
    if (!shot || !i.isValid() || i.column() >= int(shot->rig.cameras.size())) return {};
    const Row& row = rows()[std::size_t(i.row())];
    const Camera& camera = shot->rig.cameras[std::size_t(i.column())];
    const ShotCamera* use = find_camera(*shot, camera.id);
    if (!use) return {};
    static const char* const kWords[] = {"assumed",    "from profile", "from file",
                                         "found from", "solved:",      "set by hand"};
    const Origin& o = origin_of(*use, row.value);
    QString text = QString("%1 of %2: %3 %4")
                       .arg(row.name, QString::fromStdString(camera.id), kWords[std::size_t(o.kind)],
                            QString::fromStdString(o.detail))
                       .trimmed();
    const Camera* from = profile_camera(*shot, camera.id);
    if (from && row.get && std::abs(row.get(*from) - row.get(camera)) > 1e-9)
        text += QString("; the profile has %1 %2").arg(row.get(*from), 0, 'f', row.decimals).arg(row.unit);
    return text;
}

bool RigModel::set_value(const QModelIndex& i, double v, const QString& merge_key) {
    const Row& row = rows()[std::size_t(i.row())];
    const bool metric = std::string_view(row.unit) == "mm" && std::string_view(row.name) == "Focal length";
    if (metric && session_.shot()->rig.cameras[std::size_t(i.column())].lens.pixel_pitch_um == 0) {
        session_.say("Set the pixel pitch or the sensor width first: millimetres need one of them.",
                     Signal::care);
        return false;
    }
    const auto ids = targets(i);
    const double before = value(i);
    return session_.edit_shot(
        QString("Set %1 of %2")
            .arg(QString(row.name).toLower(),
                 ids.size() == 1 ? QString::fromStdString(ids[0]) : QString("%1 cameras").arg(ids.size())),
        [&](Shot& s) {
            for (const auto& id : ids) {
                Camera& c = *find_camera(s.rig, id);
                row.set(c, row.alike || id == ids[0] ? v : row.get(c) + v - before);
            }
        },
        merge_key);
}

bool RigModel::setData(const QModelIndex& i, const QVariant& value, int role) {
    if (role != Qt::EditRole || !session_.shot()) return false;
    const std::string id = session_.shot()->rig.cameras[std::size_t(i.column())].id;
    if (i.row() == kKindRow) {
        const auto kind = projection_named(value.toString().toStdString());
        if (!kind) return false;
        const auto ids = targets(i);
        return session_.edit_shot("Set lens kind of " + QString::fromStdString(id), [&](Shot& s) {
            for (const auto& one : ids) {
                Lens& lens = find_camera(s.rig, one)->lens;
                const double fov = field_of_view_deg(lens); // the glass sees as much as before
                lens.projection = *kind;
                lens.focal_px = focal_for_field_of_view(lens, fov);
            }
        });
    }
    if (i.row() == kEyeRow)
        return session_.edit_shot("Set eye of " + QString::fromStdString(id), [&](Shot& s) {
            for (std::size_t e = 0; e < kEyeNames.size(); ++e)
                if (value.toString() == kEyeNames[e]) find_camera(s.rig, id)->eyes = Eyes(e);
        });
    QString text = value.toString().simplified();
    while (!text.isEmpty() && !text.back().isDigit() && text.back() != '.') text.chop(1); // a typed unit
    bool ok = false;
    const double v = text.replace(',', '.').toDouble(&ok);
    if (!ok) {
        session_.say(
            QString("'%1' is not a number. Type digits, with or without the unit.").arg(value.toString()),
            Signal::care);
        return false;
    }
    return set_value(i, v, {});
}

void RigModel::nudge(const QModelIndex& i, double from, double steps) {
    set_value(i, from + steps * rows()[std::size_t(i.row())].step,
              QString("drag-rig-%1-%2").arg(i.row()).arg(i.column()));
}

RigTable::RigTable(RigModel& model, Session& session, QWidget* parent)
    : QTableView(parent), model_(model), session_(session) {
    setObjectName("rig_table");
    setModel(&model);
    setItemDelegate(new WordDelegate(this));
    setSelectionMode(QAbstractItemView::ExtendedSelection);
    setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed |
                    QAbstractItemView::AnyKeyPressed);
    verticalHeader()->setDefaultSectionSize(22);
    verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    horizontalHeader()->setMinimumSectionSize(84);
    horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    setAlternatingRowColors(true);
    connect(selectionModel(), &QItemSelectionModel::currentChanged, this, [this](const QModelIndex& now) {
        if (const Shot* s = session_.shot(); s && now.isValid() && now.column() < int(s->rig.cameras.size()))
            session_.select_camera(s->rig.cameras[std::size_t(now.column())].id);
    });
}

void RigTable::mousePressEvent(QMouseEvent* event) {
    QTableView::mousePressEvent(event);
    const QModelIndex i = indexAt(event->position().toPoint());
    dragging_ = false;
    dragged_ = QModelIndex();
    if (event->button() != Qt::LeftButton || !model_.is_number(i)) return;
    dragged_ = i;
    drag_x_ = event->position().toPoint().x();
    drag_from_ = model_.value(i);
}

void RigTable::mouseMoveEvent(QMouseEvent* event) {
    if (!dragged_.isValid()) return QTableView::mouseMoveEvent(event);
    const int moved = event->position().toPoint().x() - drag_x_;
    if (!dragging_ && std::abs(moved) < 4) return;
    if (!dragging_ && (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)))
        return QTableView::mouseMoveEvent(event);
    dragging_ = true;
    setCursor(Qt::SizeHorCursor);
    model_.nudge(dragged_, drag_from_, moved * (event->modifiers() & Qt::ShiftModifier ? 0.1 : 1));
}

void RigTable::mouseReleaseEvent(QMouseEvent* event) {
    if (dragging_) session_.end_drag();
    dragging_ = false;
    dragged_ = QModelIndex();
    unsetCursor();
    QTableView::mouseReleaseEvent(event);
}

QPushButton* RigPanel::button(QLayout* row, const QString& text, const char* name, const QString& tip,
                              void (RigPanel::*work)()) {
    auto* b = new QPushButton(text);
    b->setObjectName(name);
    b->setToolTip(tip);
    row->addWidget(b);
    connect(b, &QPushButton::clicked, this, work);
    return b;
}

RigPanel::RigPanel(Session& session, QWidget* parent)
    : Panel("Rig", "What each lens is and where it points. Coloured figures depart from the profile.",
            parent),
      session_(session), model_(session) {
    setObjectName("rig_panel");
    found_ = new QFrame;
    found_->setProperty("role", "offer");
    auto* offer = new QHBoxLayout(found_);
    offer->setContentsMargins(8, 4, 4, 4);
    found_words_ = new QLabel;
    found_words_->setObjectName("embedded_words");
    found_words_->setWordWrap(true);
    offer->addWidget(found_words_, 1);
    button(offer, "Compare…", "use_embedded", "Show what would change, then decide",
           &RigPanel::use_embedded_rig);
    column()->addWidget(found_);
    auto* head = new QHBoxLayout;
    name_ = new QLabel;
    name_->setWordWrap(true);
    head->addWidget(name_, 1);
    button(head, "Profiles…", "profiles", "Start from a profile that fits (P)", &RigPanel::choose_profile);
    column()->addLayout(head);
    table_ = new RigTable(model_, session);
    table_->setMinimumHeight(230);
    column()->addWidget(table_, 1);
    origin_ = new QLabel;
    origin_->setObjectName("value_origin");
    origin_->setProperty("role", "hint");
    origin_->setWordWrap(true);
    origin_->setMinimumHeight(30);
    origin_->setAlignment(Qt::AlignTop);
    column()->addWidget(origin_);
    alike_ = new QCheckBox("Edit alike cameras together");
    alike_->setObjectName("alike_together");
    alike_->setToolTip("The same kind of lens on the same size of picture: values are set alike, places and "
                       "directions moved alike");
    column()->addWidget(alike_);
    column()->addWidget(new LensPlot(session));
    auto* tools = new QHBoxLayout;
    tools->setSpacing(4);
    const auto menu = [&](const QString& text, const char* name, void (RigPanel::*work)(Part),
                          const QString& tip) {
        auto* b = new QToolButton;
        b->setText(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        b->setPopupMode(QToolButton::InstantPopup);
        b->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
        auto* m = new QMenu(b);
        m->addAction(text + " lens", this, [this, work] { (this->*work)(Part::lens); });
        m->addAction(text + " pose", this, [this, work] { (this->*work)(Part::pose); });
        b->setMenu(m);
        tools->addWidget(b);
    };
    menu("Copy", "rig_copy", &RigPanel::copy, "Keep this camera's lens or pose to paste");
    menu("Paste", "rig_paste", &RigPanel::paste, "Give the selected cameras the kept lens or pose");
    menu("Lock", "rig_lock", &RigPanel::lock,
         "Lock or unlock: neither edits nor solves change what is locked");
    menu("Reset", "rig_reset", &RigPanel::reset, "Back to what the profile has");
    column()->addLayout(tools);
    auto* circles = new QHBoxLayout;
    find_ = button(circles, "Find circles", "find_circles", "Look for the image circles in the sources (C)",
                   &RigPanel::find_circles_now);
    auto* back = new QPushButton("Turn to the back");
    back->setObjectName("turn_back");
    back->setToolTip("Turns the selected camera by 180° (Ctrl+B)");
    circles->addWidget(back);
    connect(back, &QPushButton::clicked, this, &RigPanel::turn_selected_back);
    column()->addLayout(circles);
    auto* files = new QHBoxLayout;
    auto* calibration = new QToolButton;
    calibration->setText("Calibration and rig files");
    calibration->setObjectName("calibration_menu");
    calibration->setPopupMode(QToolButton::InstantPopup);
    calibration->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    auto* list = new QMenu(calibration);
    list->addAction("Read a calibration…", this, &RigPanel::read_calibration);
    list->addAction("Write a calibration…", this, &RigPanel::write_calibration);
    list->addSeparator();
    list->addAction("Load a rig file…", this, [this] { load_rig_file(); });
    list->addAction("Save the rig as a file…", this, &RigPanel::save_rig_file);
    list->addAction("Save the rig as a profile…", this, &RigPanel::save_as_profile);
    list->addSeparator();
    list->addAction("Read a motion record…", this, &RigPanel::read_motion);
    calibration->setMenu(list);
    files->addWidget(calibration);
    column()->addLayout(files);
    auto* agree_row = new QHBoxLayout;
    agree_row->addWidget(new QLabel("Agree distance"));
    agree_ = new NumberField(0, 10000, 0.05, 2, "m");
    agree_->setObjectName("agree_distance");
    agree_->setSpecialValueText("infinitely far");
    agree_->setToolTip(
        "The distance at which all cameras agree; 0 is infinitely far. Nearer and farther things double.");
    agree_row->addWidget(agree_, 1);
    column()->addLayout(agree_row);
    connect(agree_, &NumberField::edited, this, [this](double v) {
        session_.edit_shot(
            "Set the agree distance", [v](Shot& s) { s.agree_distance_m = v; }, "agree-distance");
    });
    connect(agree_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    const auto reach = [this] {
        std::vector<int> columns;
        for (const auto& i : table_->selectionModel()->selectedIndexes())
            if (i.row() == table_->currentIndex().row()) columns.push_back(i.column());
        model_.set_reach(columns, alike_->isChecked());
        origin_->setText(model_.origin_words(table_->currentIndex()));
    };
    connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this, reach);
    connect(table_->selectionModel(), &QItemSelectionModel::currentChanged, this, reach);
    connect(alike_, &QCheckBox::toggled, this, reach);
    connect(&session_, &Session::project_changed, this, &RigPanel::refresh_if_seen);
    connect(&session_, &Session::selection_changed, this, &RigPanel::refresh_if_seen);
    refresh();
}

void RigPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    found_->hide();
    if (!shot) {
        name_->setText("No cameras yet. Gather the files of a take first.");
        return;
    }
    const Lens& first = shot->rig.cameras.front().lens;
    name_->setText(QString("%1\n%2 cameras, pictures of %3 × %4")
                       .arg(QString::fromStdString(shot->rig.name))
                       .arg(shot->rig.cameras.size())
                       .arg(first.width)
                       .arg(first.height));
    agree_->set_quietly(shot->agree_distance_m);
    for (int c = 0; c < int(shot->rig.cameras.size()); ++c)
        if (shot->rig.cameras[std::size_t(c)].id == session_.selected_camera() &&
            table_->currentIndex().column() != c)
            table_->setCurrentIndex(model_.index(std::max(2, table_->currentIndex().row()), c));
    origin_->setText(model_.origin_words(table_->currentIndex()));
    try {
        const auto inside = embedded_rig(*session_.project(), *shot, *session_.library());
        if (inside && std::any_of(shot->rig.cameras.begin(), shot->rig.cameras.end(), [&](const Camera& c) {
                const Camera* other = find_camera(*inside, c.id);
                return !other || !(other->lens == c.lens) || !(other->pose == c.pose);
            })) {
            found_words_->setText("The video carries a rig of its own: “" +
                                  QString::fromStdString(inside->name) + "”");
            found_->show();
        }
    } catch (const Error& e) {
        found_words_->setText("The video's own rig cannot be used: " +
                              QString::fromStdString(e.what_failed()));
        found_->show();
    }
}

std::vector<std::string> RigPanel::selected_cameras() const {
    std::vector<std::string> out;
    const Shot* shot = session_.shot();
    if (!shot) return out;
    for (const auto& i : table_->selectionModel()->selectedIndexes())
        if (const auto& id = shot->rig.cameras[std::size_t(i.column())].id;
            std::find(out.begin(), out.end(), id) == out.end())
            out.push_back(id);
    if (out.empty()) out.push_back(session_.selected_camera());
    if (alike_->isChecked())
        for (const auto& id : alike_cameras(shot->rig, out.front()))
            if (std::find(out.begin(), out.end(), id) == out.end()) out.push_back(id);
    return out;
}

void RigPanel::copy(Part part) {
    const Shot* shot = session_.shot();
    const Camera* c = shot ? find_camera(shot->rig, session_.selected_camera()) : nullptr;
    if (!c) return;
    if (part == Part::lens)
        lens_copy_ = c->lens;
    else
        pose_copy_ = c->pose;
    session_.say(
        QString("%1 of %2 kept").arg(part == Part::lens ? "Lens" : "Pose", QString::fromStdString(c->id)));
}

void RigPanel::paste(Part part) {
    if (part == Part::lens ? !lens_copy_ : !pose_copy_)
        return session_.say("Copy a lens or pose first.", Signal::care);
    const auto ids = selected_cameras();
    session_.edit_shot(part == Part::lens ? "Paste a lens" : "Paste a pose", [&](Shot& s) {
        for (const auto& id : ids) {
            Camera& c = *find_camera(s.rig, id);
            if (part == Part::lens)
                c.lens = pasted_lens(*lens_copy_, c.lens);
            else
                c.pose = *pose_copy_;
        }
    });
}

void RigPanel::lock(Part part) {
    const auto ids = selected_cameras();
    const Shot* shot = session_.shot();
    if (!shot) return;
    const ShotCamera* first = find_camera(*shot, ids.front());
    const bool on = first && !(part == Part::lens ? first->lens_locked : first->pose_locked);
    session_.edit_shot(QString("%1 the %2").arg(on ? "Lock" : "Unlock", part == Part::lens ? "lens" : "pose"),
                       [&](Shot& s) {
                           for (auto& c : s.cameras)
                               if (std::find(ids.begin(), ids.end(), c.camera) != ids.end())
                                   (part == Part::lens ? c.lens_locked : c.pose_locked) = on;
                       });
    session_.say(
        QString("%1 of %2 %3")
            .arg(part == Part::lens ? "Lens" : "Pose",
                 ids.size() == 1 ? QString::fromStdString(ids[0]) : QString("%1 cameras").arg(ids.size()),
                 on ? "locked" : "unlocked"));
}

void RigPanel::reset(Part part) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (!shot->profile)
        return session_.say("This rig did not start from a profile. Choose one under Profiles.",
                            Signal::care);
    const auto ids = selected_cameras();
    session_.edit_shot(part == Part::lens ? "Reset the lens" : "Reset the pose",
                       [&](Shot& s) {
                           for (const auto& id : ids)
                               if (const Camera* from = profile_camera(s, id)) {
                                   Camera& c = *find_camera(s.rig, id);
                                   if (part == Part::lens)
                                       c.lens = from->lens;
                                   else
                                       c.pose = from->pose;
                               }
                       },
                       {}, {OriginKind::profile, shot->profile->name});
}

void RigPanel::circle_to_alike() {
    const Shot* shot = session_.shot();
    const Camera* from = shot ? find_camera(shot->rig, session_.selected_camera()) : nullptr;
    if (!from) return;
    const ImageCircle circle = from->lens.circle;
    // In a picture of its own the circle lies alike; of circles that share pictures only the size is alike.
    const bool own = 2 * circle.radius_px > 0.6 * std::max(from->lens.width, from->lens.height);
    const auto ids = alike_cameras(shot->rig, from->id);
    session_.edit_shot("Copy the circle to alike cameras", [&](Shot& s) {
        for (const auto& id : ids) {
            Lens& lens = find_camera(s.rig, id)->lens;
            set_circle(lens, {own ? circle.center_px : lens.circle.center_px, circle.radius_px});
        }
    });
}

void RigPanel::find_circles_now() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    find_->setEnabled(false);
    session_.say("Looking for the image circles…");
    finder_ = std::jthread([this, project = session_.project(), id = shot->id, library = session_.library(),
                            cancel = cancel_] {
        std::vector<std::pair<std::string, CircleSearch>> found;
        QString errors;
        const Shot& at = *find_shot(*project, id);
        for (const auto& use : at.cameras) {
            if (use.media.empty() ||
                std::any_of(found.begin(), found.end(), [&](const auto& f) { return f.first == use.media; }))
                continue;
            try {
                found.push_back({use.media, find_shot_circles(*project, at, use.media, *library, cancel)});
                const auto& why = found.back().second;
                if (!why.why_not.empty())
                    errors += QString("%1: %2. %3.\n")
                                  .arg(QString::fromStdString(use.media), QString::fromStdString(why.why_not),
                                       QString::fromStdString(why.mend));
            } catch (const std::exception& e) {
                errors += QString::fromStdString(e.what()) + "\n";
            }
        }
        QMetaObject::invokeMethod(
            this,
            [this, id, found, errors] {
                find_->setEnabled(true);
                if (!session_.shot() || session_.shot()->id != id) return;
                int set = 0;
                double least = 1;
                for (const auto& [media, search] : found)
                    for (const auto& c : search.circles) least = std::min(least, c.confidence);
                session_.edit_shot("Find the image circles", [&](Shot& s) {
                    for (const auto& [media, search] : found) set += take_circles(s, media, search);
                });
                if (!errors.isEmpty())
                    session_.say("Not every circle was found. " + errors.trimmed(),
                                 set ? Signal::care : Signal::stop);
                else if (set == 0)
                    session_.say("No circle was set: the lenses are locked, or no camera has a source.",
                                 Signal::care);
                else
                    session_.say(QString("%1 image circles found, the least sure one by %2 %")
                                     .arg(set)
                                     .arg(100 * least, 0, 'f', 0));
            },
            Qt::QueuedConnection);
    });
}

void RigPanel::choose_profile() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    ProfileChooser chooser(*shot, this);
    if (chooser.exec() != QDialog::Accepted || !chooser.chosen()) return;
    const Profile profile = *chooser.chosen();
    const Lens& like = shot->rig.cameras.front().lens;
    const Rig rig = scaled(profile.rig, like.width, like.height);
    session_.edit_shot("Start from " + QString::fromStdString(profile.name()),
                       [&](Shot& s) {
                           start_from(s, rig, {OriginKind::profile, profile.name()});
                       },
                       {}, {OriginKind::profile, profile.name()});
}

void RigPanel::save_as_profile() {
    if (!session_.shot()) return;
    const QString name = QInputDialog::getText(this, "Save as a profile",
                                               "Name, for the next shot with this rig:", QLineEdit::Normal,
                                               QString::fromStdString(session_.shot()->rig.name));
    if (name.trimmed().isEmpty()) return;
    try {
        save_profile(session_.shot()->rig, name.trimmed().toStdString(), profile_folders().front());
        session_.say("Kept as profile “" + name.trimmed() + "”");
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::take_rig_after_look(const Rig& rig, const QString& label, const Origin& origin) {
    Shot after = *session_.shot();
    take_rig(after, rig, origin);
    RigComparison comparison(session_.shot()->rig, after.rig, label, this);
    if (comparison.exec() != QDialog::Accepted) return session_.say("The rig was left as it is.");
    session_.edit_shot(
        label, [&](Shot& s) { take_rig(s, rig, origin); }, {}, origin);
}

void RigPanel::use_embedded_rig() {
    try {
        if (const auto rig = embedded_rig(*session_.project(), *session_.shot(), *session_.library()))
            take_rig_after_look(*rig, "Use the video's own rig", {OriginKind::file, "the video's metadata"});
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::read_calibration() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const QString file = QFileDialog::getOpenFileName(this, "Read a lens calibration", {},
                                                      "Calibrations (*.yml *.yaml *.xml *.json)");
    if (file.isEmpty()) return;
    try {
        const Camera& at = *find_camera(shot->rig, session_.selected_camera());
        const Calibration c =
            load_calibration(file.toStdString(),
                             {at.lens.width, at.lens.height, at.lens.projection != Projection::rectilinear});
        auto ids = selected_cameras();
        if (c.lenses.size() == 2) {
            if (ids.size() != 2 && shot->rig.cameras.size() == 2)
                ids = {shot->rig.cameras[0].id, shot->rig.cameras[1].id};
        } else {
            ids.resize(1);
        }
        const Origin origin{OriginKind::file, QFileInfo(file).fileName().toStdString()};
        Shot after = *shot;
        take_calibration(after, ids, c, origin);
        RigComparison comparison(shot->rig, after.rig, "Use calibration " + QFileInfo(file).fileName(), this);
        for (const auto& r : c.remarks) comparison.add_remark(QString::fromStdString(r));
        if (comparison.exec() != QDialog::Accepted) return session_.say("The lens was left as it is.");
        session_.edit_shot(
            "Read calibration " + QFileInfo(file).fileName(),
            [&](Shot& s) { take_calibration(s, ids, c, origin); }, {}, origin);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::write_calibration() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const auto ids = selected_cameras();
    const bool pair = ids.size() == 2;
    const QString file = QFileDialog::getSaveFileName(
        this,
        pair ? "Write the calibration of two cameras"
             : "Write the calibration of camera " + QString::fromStdString(ids.front()),
        "calibration.yml", "YAML (*.yml);;XML (*.xml);;JSON (*.json)");
    if (file.isEmpty()) return;
    try {
        save_calibration(calibration_of(shot->rig, ids[0], pair ? ids[1] : ""), file.toStdString());
        session_.say("Written " + QFileInfo(file).fileName());
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::read_motion() {
    if (!session_.shot()) return;
    const QString file =
        QFileDialog::getOpenFileName(this, "Read a motion record", {}, "Motion records (*.csv *.mp4 *.mov)");
    if (file.isEmpty()) return;
    try {
        const MotionRecord record = load_motion(file.toStdString());
        session_.edit_shot("Read a motion record", [&](Shot& s) {
            s.motion = MotionSource{std::filesystem::absolute(file.toStdString()), Seconds(0),
                                    session_.selected_camera()};
        });
        session_.say(QString("%1 motion samples, as camera %2 recorded them")
                         .arg(record.size())
                         .arg(QString::fromStdString(session_.selected_camera())));
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::turn_selected_back() {
    const std::string id = session_.selected_camera();
    session_.edit_shot("Turn " + QString::fromStdString(id) + " to the back", [&](Shot& s) {
        Camera& c = *find_camera(s.rig, id);
        c.pose.turn = turn_of(rotation_of({180, 0, 0}) * rotation_of(c.pose.turn));
        c.pose.position_m = rotation_of({180, 0, 0}) * c.pose.position_m;
    });
}

void RigPanel::load_rig_file(QString file) {
    if (!session_.shot()) return session_.say("Gather the files of a take first.", Signal::care);
    if (file.isEmpty())
        file = QFileDialog::getOpenFileName(this, "Load a rig", {}, "Rigs (*.rig.json *.json)");
    if (file.isEmpty()) return;
    try {
        const Rig rig = load_rig(file.toStdString());
        const Origin origin{OriginKind::file, QFileInfo(file).fileName().toStdString()};
        const Shot& shot = *session_.shot();
        if (rig.cameras.size() == shot.rig.cameras.size())
            return take_rig_after_look(rig, "Load rig " + QFileInfo(file).fileName(), origin);
        session_.edit_shot(
            "Load rig " + QFileInfo(file).fileName(), [&](Shot& s) { start_from(s, rig, origin); }, {},
            origin);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

void RigPanel::save_rig_file() {
    if (!session_.shot()) return;
    const QString file =
        QFileDialog::getSaveFileName(this, "Save the rig", "rig.rig.json", "Rigs (*.rig.json)");
    if (file.isEmpty()) return;
    try {
        save_rig(session_.shot()->rig, file.toStdString());
        session_.say("Saved " + QFileInfo(file).fileName());
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(e.what()), Signal::stop);
    }
}

} // namespace porb::app
