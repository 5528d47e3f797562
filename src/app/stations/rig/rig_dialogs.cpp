#include "app/stations/rig/rig_dialogs.h"

#include "app/widgets/theme.h"
#include "base/angle.h"

#include <QCheckBox>
#include <QHeaderView>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QTableWidget>
#include <QVBoxLayout>

namespace porb::app {

ProfileChooser::ProfileChooser(const Shot& shot, QWidget* parent) : QDialog(parent) {
    setObjectName("profile_chooser");
    setWindowTitle("Profiles");
    resize(470, 440);
    all_ = all_profiles();
    const Lens& lens = shot.rig.cameras.front().lens;
    const bool shared = shot.cameras.size() == 2 && !shot.cameras[0].media.empty() &&
                        shot.cameras[0].media == shot.cameras[1].media;
    fitting_ = matching(all_, {int(shot.rig.cameras.size()), lens.width, lens.height, shared ? 2 : 1});
    auto* column = new QVBoxLayout(this);
    words_ = new QLineEdit;
    words_->setObjectName("profile_words");
    words_->setPlaceholderText("Search: ring six 1920, stereo, dome …");
    words_->setClearButtonEnabled(true);
    column->addWidget(words_);
    only_fitting_ = new QCheckBox(QString("Only those that fit %1 cameras of %2 × %3")
                                      .arg(shot.rig.cameras.size())
                                      .arg(lens.width)
                                      .arg(lens.height));
    only_fitting_->setChecked(!fitting_.empty());
    column->addWidget(only_fitting_);
    list_ = new QListWidget;
    list_->setObjectName("profile_list");
    column->addWidget(list_, 1);
    facts_ = new QLabel;
    facts_->setProperty("role", "hint");
    facts_->setWordWrap(true);
    facts_->setMinimumHeight(36);
    column->addWidget(facts_);
    auto* row = new QHBoxLayout;
    use_ = new QPushButton("Start from this");
    use_->setObjectName("use_profile");
    use_->setProperty("role", "main");
    use_->setDefault(true);
    auto* leave = new QPushButton("Cancel");
    row->addStretch();
    row->addWidget(leave);
    row->addWidget(use_);
    column->addLayout(row);
    connect(words_, &QLineEdit::textChanged, this, &ProfileChooser::refresh);
    connect(only_fitting_, &QCheckBox::toggled, this, &ProfileChooser::refresh);
    connect(leave, &QPushButton::clicked, this, &QDialog::reject);
    connect(use_, &QPushButton::clicked, this, &QDialog::accept);
    connect(list_, &QListWidget::itemDoubleClicked, this, &QDialog::accept);
    connect(list_, &QListWidget::currentRowChanged, this, [this] {
        const auto p = chosen();
        use_->setEnabled(p.has_value());
        if (!p)
            return facts_->setText(shown_.empty() ? "Nothing of that kind. Other words, or untick the box."
                                                  : "");
        const TakeShape s = shape_of(*p);
        facts_->setText(QString("%1 cameras, %2 × %3 px, %4° across the circle. %5")
                            .arg(s.cameras)
                            .arg(s.width)
                            .arg(s.height)
                            .arg(field_of_view_deg(p->rig.cameras.front().lens), 0, 'f', 1)
                            .arg(p->built_in
                                     ? "Built in: an ideal arrangement."
                                     : "Saved: " + QString::fromStdString(p->file.filename().string())));
    });
    refresh();
}

void ProfileChooser::refresh() {
    shown_ = search(only_fitting_->isChecked() ? fitting_ : all_, words_->text().toStdString());
    list_->clear();
    for (const auto& p : shown_)
        list_->addItem(QString::fromStdString(p.name()) + (p.built_in ? "" : "   — saved"));
    list_->setCurrentRow(shown_.empty() ? -1 : 0);
    if (shown_.empty()) {
        use_->setEnabled(false);
        facts_->setText("Nothing of that kind. Other words, or untick the box.");
    }
}

std::optional<Profile> ProfileChooser::chosen() const {
    const int row = list_->currentRow();
    if (row < 0 || row >= int(shown_.size())) return std::nullopt;
    return shown_[std::size_t(row)];
}

RigComparison::RigComparison(const Rig& before, const Rig& after, const QString& title, QWidget* parent)
    : QDialog(parent) {
    setObjectName("rig_comparison");
    setWindowTitle(title);
    resize(640, 420);
    auto* column = new QVBoxLayout(this);
    auto* head = new QLabel(title);
    head->setProperty("role", "title");
    column->addWidget(head);
    struct Line {
        const char* name;
        const char* unit;
        int decimals;
        double (*get)(const Camera&);
    };
    static const Line kLines[] = {
        {"view across circle", "°", 2, [](const Camera& c) { return field_of_view_deg(c.lens); }},
        {"focal length", "px", 2, [](const Camera& c) { return c.lens.focal_px; }},
        {"centre x", "px", 1, [](const Camera& c) { return c.lens.center_px.x(); }},
        {"centre y", "px", 1, [](const Camera& c) { return c.lens.center_px.y(); }},
        {"circle radius", "px", 1, [](const Camera& c) { return c.lens.circle.radius_px; }},
        {"yaw", "°", 2, [](const Camera& c) { return c.pose.turn.yaw_deg; }},
        {"pitch", "°", 2, [](const Camera& c) { return c.pose.turn.pitch_deg; }},
        {"roll", "°", 2, [](const Camera& c) { return c.pose.turn.roll_deg; }},
    };
    auto* table = new QTableWidget(0, 5);
    table->setObjectName("comparison_table");
    table->setHorizontalHeaderLabels({"Camera", "Value", "Now", "Would be", "Change"});
    table->verticalHeader()->hide();
    table->verticalHeader()->setDefaultSectionSize(22);
    table->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table->setEditTriggers(QAbstractItemView::NoEditTriggers);
    const auto put = [&](int column_index, const QString& text, const QColor& colour) {
        auto* item = new QTableWidgetItem(text);
        item->setForeground(colour);
        if (column_index > 1) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        table->setItem(table->rowCount() - 1, column_index, item);
    };
    for (std::size_t i = 0; i < after.cameras.size(); ++i) {
        const Camera& now = after.cameras[i];
        const Camera* old = find_camera(before, now.id);
        if (!old) continue;
        if (old->lens.projection != now.lens.projection) {
            table->insertRow(table->rowCount());
            put(0, QString::fromStdString(now.id), colour::lens(int(i)));
            put(1, "lens kind", colour::text);
            put(2, name_of(old->lens.projection), colour::text);
            put(3, name_of(now.lens.projection), colour::accent);
        }
        for (const auto& line : kLines) {
            const double a = line.get(*old), b = line.get(now);
            if (std::abs(a - b) < 1e-6) continue;
            table->insertRow(table->rowCount());
            put(0, QString::fromStdString(now.id), colour::lens(int(i)));
            put(1, line.name, colour::text);
            put(2, QString("%1 %2").arg(a, 0, 'f', line.decimals).arg(line.unit), colour::text);
            put(3, QString("%1 %2").arg(b, 0, 'f', line.decimals).arg(line.unit), colour::accent);
            put(4, QString("%1%2 %3").arg(b > a ? "+" : "").arg(b - a, 0, 'f', line.decimals).arg(line.unit),
                colour::text);
        }
    }
    column->addWidget(table, 1);
    remarks_ = new QLabel(table->rowCount() ? "" : "Nothing but distortion would change, if anything.");
    remarks_->setProperty("role", "hint");
    remarks_->setWordWrap(true);
    column->addWidget(remarks_);
    auto* row = new QHBoxLayout;
    auto* leave = new QPushButton("Leave it");
    auto* use = new QPushButton("Use it");
    use->setObjectName("use_rig");
    use->setProperty("role", "main");
    use->setDefault(true);
    row->addStretch();
    row->addWidget(leave);
    row->addWidget(use);
    column->addLayout(row);
    connect(leave, &QPushButton::clicked, this, &QDialog::reject);
    connect(use, &QPushButton::clicked, this, &QDialog::accept);
}

void RigComparison::add_remark(const QString& text) {
    remarks_->setText((remarks_->text() + "\n▲ " + text).trimmed());
}

} // namespace porb::app
