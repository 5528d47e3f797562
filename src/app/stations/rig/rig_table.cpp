#include "app/stations/rig/rig_table.h"

#include "app/widgets/theme.h"
#include "base/angle.h"
#include "project/camera_edits.h"
#include "project/origins.h"

#include <QComboBox>
#include <QHeaderView>
#include <QMouseEvent>
#include <QStyledItemDelegate>

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

// clang-format off
/// A row whose value is simply a member of the camera.
#define PORB_MEMBER(name, unit, decimals, step, member, value, alike)                  \
    {name, unit, decimals, step, [](const Camera& c) -> double { return c.member; },   \
     [](Camera& c, double v) { c.member = v; }, value, alike}

const std::vector<Row>& rows() {
    using enum CameraValue;
    static const std::vector<Row> all = {
        {"Lens kind", "", 0, 0, nullptr, nullptr, kind},
        {"Eye", "", 0, 0, nullptr, nullptr, kind},
        {"View across circle", "°", 2, 0.1, [](const Camera& c) { return field_of_view_deg(c.lens); },
         [](Camera& c, double v) { c.lens.focal_px = focal_for_field_of_view(c.lens, std::clamp(v, 1.0, 360.0)); }, focal},
        {"View across picture", "°", 2, 0.1, [](const Camera& c) { return picture_field_of_view_deg(c.lens); },
         [](Camera& c, double v) { c.lens.focal_px = focal_for_picture_field_of_view(c.lens, v); }, focal},
        PORB_MEMBER("Focal length", "px", 2, 0.5, lens.focal_px, focal, true),
        {"Focal length", "mm", 4, 0.001, [](const Camera& c) { return focal_mm(c.lens); },
         [](Camera& c, double v) { if (c.lens.pixel_pitch_um > 0) c.lens.focal_px = v * 1000 / c.lens.pixel_pitch_um; }, focal},
        PORB_MEMBER("Pixel pitch", "µm", 3, 0.01, lens.pixel_pitch_um, focal, true),
        {"Sensor width", "mm", 3, 0.01, [](const Camera& c) { return sensor_width_mm(c.lens); },
         [](Camera& c, double v) { c.lens.pixel_pitch_um = v * 1000 / c.lens.width; }, focal},
        PORB_MEMBER("Centre x", "px", 1, 0.5, lens.center_px.x(), centre, false),
        PORB_MEMBER("Centre y", "px", 1, 0.5, lens.center_px.y(), centre, false),
        PORB_MEMBER("Circle x", "px", 1, 0.5, lens.circle.center_px.x(), circle, false),
        PORB_MEMBER("Circle y", "px", 1, 0.5, lens.circle.center_px.y(), circle, false),
        PORB_MEMBER("Circle radius", "px", 1, 0.5, lens.circle.radius_px, circle, true),
        PORB_MEMBER("Distortion k1", "", 5, 0.0005, lens.radial[0], distortion, true),
        PORB_MEMBER("Distortion k2", "", 5, 0.0005, lens.radial[1], distortion, true),
        PORB_MEMBER("Distortion k3", "", 5, 0.0005, lens.radial[2], distortion, true),
        PORB_MEMBER("Distortion k4", "", 5, 0.0005, lens.radial[3], distortion, true),
        {"Yaw", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.yaw_deg; },
         [](Camera& c, double v) { c.pose.turn.yaw_deg = wrapped_deg(v); }, turn, false},
        {"Pitch", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.pitch_deg; },
         [](Camera& c, double v) { c.pose.turn.pitch_deg = std::clamp(v, -90.0, 90.0); }, turn, false},
        {"Roll", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.roll_deg; },
         [](Camera& c, double v) { c.pose.turn.roll_deg = wrapped_deg(v); }, turn, false},
        PORB_MEMBER("Position x", "m", 4, 0.001, pose.position_m.x(), position, false),
        PORB_MEMBER("Position y", "m", 4, 0.001, pose.position_m.y(), position, false),
        PORB_MEMBER("Position z", "m", 4, 0.001, pose.position_m.z(), position, false),
    };
    return all;
}
#undef PORB_MEMBER
// clang-format on

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
    verticalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    verticalHeader()->setDefaultSectionSize(22);
    verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    horizontalHeader()->setMinimumSectionSize(74);
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

} // namespace porb::app
