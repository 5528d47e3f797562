#include "app/rig_panel.h"

#include "app/number_field.h"
#include "app/theme.h"
#include "base/angle.h"
#include "base/error.h"

#include <QComboBox>
#include <QFileDialog>
#include <QHeaderView>
#include <QMouseEvent>
#include <QPushButton>
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
};

const std::array<Row, 19>& rows() {
    static const std::array<Row, 19> all = {{
        {"Lens kind", "", 0, 0, nullptr, nullptr},
        {"Eye", "", 0, 0, nullptr, nullptr},
        {"Field of view", "°", 2, 0.1, [](const Camera& c) { return field_of_view_deg(c.lens); },
         [](Camera& c, double v) {
             c.lens.focal_px = focal_for_field_of_view(c.lens, std::clamp(v, 1.0, 360.0));
         }},
        {"Focal length", "px", 2, 0.5, [](const Camera& c) { return c.lens.focal_px; },
         [](Camera& c, double v) { c.lens.focal_px = v; }},
        {"Centre x", "px", 1, 0.5, [](const Camera& c) { return c.lens.center_px.x(); },
         [](Camera& c, double v) { c.lens.center_px.x() = v; }},
        {"Centre y", "px", 1, 0.5, [](const Camera& c) { return c.lens.center_px.y(); },
         [](Camera& c, double v) { c.lens.center_px.y() = v; }},
        {"Circle x", "px", 1, 0.5, [](const Camera& c) { return c.lens.circle.center_px.x(); },
         [](Camera& c, double v) { c.lens.circle.center_px.x() = v; }},
        {"Circle y", "px", 1, 0.5, [](const Camera& c) { return c.lens.circle.center_px.y(); },
         [](Camera& c, double v) { c.lens.circle.center_px.y() = v; }},
        {"Circle radius", "px", 1, 0.5, [](const Camera& c) { return c.lens.circle.radius_px; },
         [](Camera& c, double v) { c.lens.circle.radius_px = v; }},
        {"Distortion k1", "", 5, 0.0005, [](const Camera& c) { return c.lens.radial[0]; },
         [](Camera& c, double v) { c.lens.radial[0] = v; }},
        {"Distortion k2", "", 5, 0.0005, [](const Camera& c) { return c.lens.radial[1]; },
         [](Camera& c, double v) { c.lens.radial[1] = v; }},
        {"Distortion k3", "", 5, 0.0005, [](const Camera& c) { return c.lens.radial[2]; },
         [](Camera& c, double v) { c.lens.radial[2] = v; }},
        {"Distortion k4", "", 5, 0.0005, [](const Camera& c) { return c.lens.radial[3]; },
         [](Camera& c, double v) { c.lens.radial[3] = v; }},
        {"Yaw", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.yaw_deg; },
         [](Camera& c, double v) { c.pose.turn.yaw_deg = wrapped_deg(v); }},
        {"Pitch", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.pitch_deg; },
         [](Camera& c, double v) { c.pose.turn.pitch_deg = std::clamp(v, -90.0, 90.0); }},
        {"Roll", "°", 2, 0.1, [](const Camera& c) { return c.pose.turn.roll_deg; },
         [](Camera& c, double v) { c.pose.turn.roll_deg = wrapped_deg(v); }},
        {"Position x", "m", 4, 0.001, [](const Camera& c) { return c.pose.position_m.x(); },
         [](Camera& c, double v) { c.pose.position_m.x() = v; }},
        {"Position y", "m", 4, 0.001, [](const Camera& c) { return c.pose.position_m.y(); },
         [](Camera& c, double v) { c.pose.position_m.y() = v; }},
        {"Position z", "m", 4, 0.001, [](const Camera& c) { return c.pose.position_m.z(); },
         [](Camera& c, double v) { c.pose.position_m.z() = v; }},
    }};
    return all;
}

constexpr int kKindRow = 0, kEyeRow = 1;
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
    if (role == Qt::ToolTipRole && row.get) return "Type a value, or drag sideways";
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

bool RigModel::set_value(const QModelIndex& i, double v, const QString& merge_key) {
    const Row& row = rows()[std::size_t(i.row())];
    const std::string id = session_.shot()->rig.cameras[std::size_t(i.column())].id;
    return session_.edit_shot(
        QString("Set %1 of %2").arg(QString(row.name).toLower(), QString::fromStdString(id)),
        [&](Shot& s) { row.set(*find_camera(s.rig, id), v); }, merge_key);
}

bool RigModel::setData(const QModelIndex& i, const QVariant& value, int role) {
    if (role != Qt::EditRole || !session_.shot()) return false;
    const std::string id = session_.shot()->rig.cameras[std::size_t(i.column())].id;
    if (i.row() == kKindRow) {
        const auto kind = projection_named(value.toString().toStdString());
        if (!kind) return false;
        return session_.edit_shot("Set lens kind of " + QString::fromStdString(id), [&](Shot& s) {
            Lens& lens = find_camera(s.rig, id)->lens;
            const double fov = field_of_view_deg(lens); // the glass sees as much as before
            lens.projection = *kind;
            lens.focal_px = focal_for_field_of_view(lens, fov);
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
    setSelectionMode(QAbstractItemView::SingleSelection);
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

RigPanel::RigPanel(Session& session, QWidget* parent)
    : Panel("Rig",
            "Lenses and where they point. The map shows every change at once; the lens view lets you drag "
            "the image circle.",
            parent),
      session_(session), model_(session) {
    setObjectName("rig_panel");
    name_ = new QLabel;
    column()->addWidget(name_);
    table_ = new RigTable(model_, session);
    column()->addWidget(table_, 1);
    auto* back = new QPushButton("Turn this camera to the back (180°)");
    back->setObjectName("turn_back");
    column()->addWidget(back);
    group("AGREE DISTANCE");
    agree_ = new NumberField(0, 10000, 0.05, 2, "m");
    agree_->setObjectName("agree_distance");
    agree_->setSpecialValueText("infinitely far");
    agree_->setToolTip("Where the pictures of all cameras agree; nearer and farther things double in "
                       "overlaps. 0 is infinitely far.");
    column()->addWidget(agree_);
    auto* row = new QHBoxLayout;
    auto* load = new QPushButton("Load rig…");
    auto* save = new QPushButton("Save rig…");
    row->addWidget(load);
    row->addWidget(save);
    column()->addLayout(row);
    connect(back, &QPushButton::clicked, this, &RigPanel::turn_selected_back);
    connect(load, &QPushButton::clicked, this, &RigPanel::load_rig_file);
    connect(save, &QPushButton::clicked, this, &RigPanel::save_rig_file);
    connect(agree_, &NumberField::edited, this, [this](double v) {
        session_.edit_shot(
            "Set agree distance", [&](Shot& s) { s.agree_distance_m = v; }, "agree");
    });
    connect(agree_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(&session_, &Session::project_changed, this, &RigPanel::refresh_if_seen);
    connect(&session_, &Session::selection_changed, this, &RigPanel::refresh_if_seen);
    refresh();
}

void RigPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    if (!shot) {
        name_->setText("No cameras yet. Gather the files of a take first.");
        return;
    }
    name_->setText(
        QString("%1, camera %2 selected")
            .arg(QString::fromStdString(shot->rig.name), QString::fromStdString(session_.selected_camera())));
    agree_->set_quietly(shot->agree_distance_m);
    for (int c = 0; c < int(shot->rig.cameras.size()); ++c)
        if (shot->rig.cameras[std::size_t(c)].id == session_.selected_camera() &&
            table_->currentIndex().column() != c) {
            const QSignalBlocker block(table_->selectionModel());
            table_->setCurrentIndex(model_.index(std::max(2, table_->currentIndex().row()), c));
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

void RigPanel::load_rig_file() {
    const QString file = QFileDialog::getOpenFileName(this, "Load a rig", {}, "Rigs (*.rig.json *.json)");
    if (file.isEmpty()) return;
    try {
        const Rig rig = load_rig(file.toStdString());
        session_.edit_shot("Load rig " + QFileInfo(file).fileName(), [&](Shot& s) {
            // Sources stay with their cameras by name, or by order where the names are new.
            const auto before = s.cameras;
            s.rig = rig;
            match_cameras_to_rig(s);
            for (std::size_t i = 0; i < s.cameras.size() && i < before.size(); ++i)
                if (s.cameras[i].media.empty())
                    s.cameras[i].media = before[i].media, s.cameras[i].offset = before[i].offset;
        });
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
