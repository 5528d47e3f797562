#include "app/stations/master/master_panel.h"

#include "app/widgets/number_field.h"
#include "app/widgets/theme.h"
#include "media/library.h"
#include "project/limits.h"

#include <QFileDialog>
#include <QFormLayout>
#include <QSignalBlocker>

#include <array>

namespace porb::app {

namespace {
/// Container and codec are chosen together: only pairs that make sense are offered.
struct Form {
    const char* name;
    Container container;
    VideoCodec codec;
    const char* ending;
};
const std::array<Form, 6> kForms = {
    {{"H.264 in MP4", Container::mp4, VideoCodec::h264, ".mp4"},
     {"H.265 in MP4", Container::mp4, VideoCodec::h265, ".mp4"},
     {"H.264 in MOV", Container::mov, VideoCodec::h264, ".mov"},
     {"ProRes 422 HQ in MOV", Container::mov, VideoCodec::prores, ".mov"},
     {"PNG pictures, 16 bit", Container::png_sequence, VideoCodec::h264, ".%05d.png"},
     {"OpenEXR pictures", Container::exr_sequence, VideoCodec::h264, ".%05d.exr"}}};

int form_of(const Deliverable& d) {
    for (std::size_t i = 0; i < kForms.size(); ++i)
        if (kForms[i].container == d.container && (i >= 4 || kForms[i].codec == d.codec)) return int(i);
    return 0;
}

/// The name with the form's ending in place of whatever ending it had.
std::filesystem::path with_ending(const std::filesystem::path& path, const char* ending) {
    std::string name = path.filename().string();
    for (const auto& f : kForms)
        if (name.size() > std::string(f.ending).size() && name.ends_with(f.ending)) {
            name.resize(name.size() - std::string(f.ending).size());
            break;
        }
    return path.parent_path() / (name + ending);
}

QString duration_text(double s) {
    return s >= 3600 ? QString("%1 h %2 min").arg(int(s) / 3600).arg(int(s) / 60 % 60)
           : s >= 60 ? QString("%1 min %2 s").arg(int(s) / 60).arg(int(s) % 60)
                     : QString("%1 s").arg(s, 0, 'f', 0);
}
} // namespace

MasterPanel::MasterPanel(Session& session, RenderQueue& queue, QWidget* parent)
    : Panel("Master",
            "What to render. Every file says that it is a sphere, and appears only when it is complete.",
            parent),
      session_(session), queue_(queue) {
    setObjectName("master_panel");
    group("DELIVERABLES");
    list_ = new QListWidget;
    list_->setObjectName("deliverable_list");
    list_->setMinimumHeight(56);
    list_->setMaximumHeight(92);
    column()->addWidget(list_);
    auto* row = new QHBoxLayout;
    preset_ = new QComboBox;
    preset_->setObjectName("preset_choice");
    preset_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon); // titles are long
    preset_->setMinimumContentsLength(12);
    for (const auto& p : presets()) {
        preset_->addItem(QString::fromStdString(p.title), QString::fromStdString(p.name));
        preset_->setItemData(preset_->count() - 1, QString::fromStdString(p.description), Qt::ToolTipRole);
    }
    add_ = new QPushButton("Add");
    add_->setObjectName("add_deliverable");
    remove_ = new QPushButton("Remove");
    row->addWidget(preset_, 1);
    row->addWidget(add_);
    row->addWidget(remove_);
    column()->addLayout(row);

    auto* form = new QFormLayout;
    form->setVerticalSpacing(4);
    codec_ = new QComboBox;
    for (const auto& f : kForms) codec_->addItem(f.name);
    form->addRow("Form", codec_);
    mapping_ = new QComboBox;
    mapping_->addItems({"whole sphere", "180 degrees"});
    form->addRow("Shape", mapping_);
    stereo_ = new QComboBox;
    stereo_->addItems({"mono", "stereo, left eye on top", "stereo, left eye on the left",
                       "stereo, a file for each eye", "stereo, views of each EXR",
                       "mono above its distances"});
    stereo_->setToolTip(
        "Where Depth says that eyes come from. Distances below, as grey (0.5 m divided by the distance), "
        "are for players that move with the head");
    form->addRow("Eyes", stereo_);
    width_ = new NumberField(limits::kWidth_px, 64, 0, "px");
    width_->setObjectName("deliverable_width");
    form->addRow("Width of one eye", width_);
    depth_ = new QComboBox;
    depth_->addItems({"8 bit", "10 bit"});
    form->addRow("Depth", depth_);
    quality_ = new NumberField(limits::kCrf, 0.5, 1, "");
    quality_->setToolTip("Constant quality (CRF): lower is better and larger. 16 to 20 is what a careful "
                         "person would choose.");
    form->addRow("Quality (CRF)", quality_);
    bit_rate_ = new NumberField(limits::kBitRate.times(1e-6), 1, 1, "Mbit/s");
    bit_rate_->setObjectName("bit_rate");
    bit_rate_->setSpecialValueText("as the quality needs");
    bit_rate_->setToolTip(
        "A fixed bit rate instead of a quality, for players and uploads with a limit; 0 goes by quality");
    form->addRow("Bit rate", bit_rate_);
    sound_ = new QCheckBox("carry the shot's sound");
    form->addRow("Sound", sound_);
    distances_ = new QComboBox;
    distances_->addItems({"left out", "metres beside the colours", "metres in a part of their own"});
    distances_->setObjectName("deliverable_distances");
    distances_->setToolTip(
        "Writes how far away things are into each picture (channel Z), for EXR sequences: among the "
        "colours' channels, or as a part of the file that is read without them");
    form->addRow("Distances", distances_);
    auto* file_row = new QHBoxLayout;
    file_ = new QLineEdit;
    file_->setObjectName("deliverable_file");
    auto* browse = new QPushButton("…");
    browse->setFixedWidth(30);
    browse->setAccessibleName("Choose the file");
    file_row->addWidget(file_, 1);
    file_row->addWidget(browse);
    form->addRow("File", file_row);
    column()->addLayout(form);
    size_ = new QLabel;
    size_->setProperty("role", "hint");
    column()->addWidget(size_);
    checks_ = new QLabel;
    checks_->setObjectName("preflight");
    checks_->setWordWrap(true);
    column()->addWidget(checks_);
    column()->addStretch(1);
    group("RENDER");
    progress_ = new QProgressBar;
    progress_->setObjectName("render_progress");
    progress_->setRange(0, 1000);
    column()->addWidget(progress_);
    state_ = new QLabel("Nothing is being rendered.");
    state_->setObjectName("render_state");
    state_->setWordWrap(true);
    state_->setProperty("role", "hint");
    column()->addWidget(state_);
    auto* actions = new QHBoxLayout;
    render_ = new QPushButton("Render");
    render_->setObjectName("render_button");
    render_->setProperty("role", "main");
    all_ = new QPushButton("Render all");
    stop_ = new QPushButton("Stop");
    stop_->setObjectName("stop_button");
    for (auto* b : {render_, all_, stop_}) actions->addWidget(b);
    column()->addLayout(actions);

    connect(add_, &QPushButton::clicked, this,
            [this] { add_deliverable(preset_->currentData().toString().toStdString()); });
    connect(remove_, &QPushButton::clicked, this, [this] {
        const std::string id = selected_id_;
        session_.edit("Remove a deliverable", [&](Project& p) {
            std::erase_if(p.deliverables, [&](const Deliverable& d) { return d.id == id; });
        });
    });
    connect(list_, &QListWidget::currentItemChanged, this, [this](QListWidgetItem* now) {
        selected_id_ = now ? now->data(Qt::UserRole).toString().toStdString() : "";
        refresh();
    });
    connect(codec_, &QComboBox::activated, this, [this](int i) {
        change("form", [i](Deliverable& d) {
            const Form& f = kForms[std::size_t(i)];
            d.container = f.container;
            d.codec = f.codec;
            if (!d.path.empty()) d.path = with_ending(d.path, f.ending);
        });
    });
    connect(mapping_, &QComboBox::activated, this,
            [this](int i) { change("shape", [i](Deliverable& d) { d.mapping = SphereMapping(i); }); });
    connect(stereo_, &QComboBox::activated, this,
            [this](int i) { change("eyes", [i](Deliverable& d) { d.stereo = EyeLayout(i); }); });
    connect(depth_, &QComboBox::activated, this,
            [this](int i) { change("depth", [i](Deliverable& d) { d.depth = i ? 10 : 8; }); });
    connect(width_, &NumberField::edited, this, [this](double v) {
        change(
            "width", [v](Deliverable& d) { d.width = std::max(64, int(std::lround(v / 4)) * 4); }, "width");
    });
    connect(quality_, &NumberField::edited, this, [this](double v) {
        change(
            "quality",
            [v](Deliverable& d) {
                d.crf = v;
                d.bit_rate = 0;
            },
            "quality");
    });
    connect(bit_rate_, &NumberField::edited, this, [this](double v) {
        change(
            "bit rate", [v](Deliverable& d) { d.bit_rate = std::llround(v * 1e6); }, "bit-rate");
    });
    for (auto* f : {width_, quality_, bit_rate_})
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(sound_, &QCheckBox::clicked, this,
            [this](bool on) { change("sound", [on](Deliverable& d) { d.sound = on; }); });
    connect(distances_, &QComboBox::activated, this, [this](int which) {
        change("distances",
               [which](Deliverable& d) { d.distances = which > 0, d.distances_apart = which == 2; });
    });
    connect(file_, &QLineEdit::editingFinished, this, [this] {
        const std::filesystem::path path = file_->text().toStdString();
        if (selected() && path != selected()->path)
            change("file", [&](Deliverable& d) {
                d.path = path.empty() ? path : std::filesystem::absolute(path).lexically_normal();
            });
    });
    connect(browse, &QPushButton::clicked, this, &MasterPanel::choose_file);
    connect(render_, &QPushButton::clicked, this, &MasterPanel::render_selected);
    connect(all_, &QPushButton::clicked, this, [this] {
        for (const auto& d : session_.project()->deliverables) queue_.add(session_.project(), d.id);
    });
    connect(stop_, &QPushButton::clicked, this, [this] { queue_.stop(selected_id_); });
    connect(&session_, &Session::project_changed, this, &MasterPanel::refresh_if_seen);
    connect(&queue_, &RenderQueue::changed, this, &MasterPanel::refresh_queue);
    refresh();
}

const Deliverable* MasterPanel::selected() const {
    for (const auto& d : session_.project()->deliverables)
        if (d.id == selected_id_) return &d;
    return nullptr;
}

void MasterPanel::change(const QString& what, const std::function<void(Deliverable&)>& set,
                         const QString& key) {
    if (!selected()) return;
    const std::string id = selected_id_;
    session_.edit(
        "Set a deliverable's " + what,
        [&](Project& p) {
            for (auto& d : p.deliverables)
                if (d.id == id) set(d);
        },
        key.isEmpty() ? key : "deliverable-" + key);
}

void MasterPanel::add_deliverable(const std::string& name) {
    const Preset* preset = find_preset(name);
    const Shot* shot = session_.shot();
    if (!preset || !shot) return;
    Deliverable d = preset->deliverable;
    d.shot = shot->id;
    const auto& all = session_.project()->deliverables;
    for (int n = 1; d.id.empty() ||
                    std::any_of(all.begin(), all.end(), [&](const Deliverable& x) { return x.id == d.id; });
         ++n)
        d.id = "deliverable-" + std::to_string(n);
    const std::filesystem::path folder = session_.file().empty()
                                             ? std::filesystem::path(QDir::homePath().toStdString())
                                             : session_.file().parent_path();
    const std::string stem = session_.file().empty() ? "sphere" : session_.file().stem().string();
    d.path = folder / (stem + "-" + d.name + kForms[std::size_t(form_of(d))].ending);
    selected_id_ = d.id;
    session_.edit("Add a deliverable", [&](Project& p) { p.deliverables.push_back(d); });
}

void MasterPanel::choose_file() {
    if (!selected()) return;
    const QString file =
        QFileDialog::getSaveFileName(this, "Render to", QString::fromStdString(selected()->path.string()));
    if (!file.isEmpty()) change("file", [&](Deliverable& d) { d.path = file.toStdString(); });
}

void MasterPanel::render_selected() {
    if (!selected()) return;
    Preflight checks = preflight(*session_.project(), *selected(), *session_.library());
    try {
        session_.must_not_replace(selected()->path); // the project's own file, which a project does not know
    } catch (const Error& e) {
        checks.stops.push_back(e.message());
    }
    if (!checks.stops.empty()) {
        session_.say("Cannot render: " + QString::fromStdString(checks.stops.front()), Signal::stop);
        return;
    }
    queue_.add(session_.project(), selected_id_);
}

void MasterPanel::refresh() {
    const auto& all = session_.project()->deliverables;
    {
        const QSignalBlocker block(list_);
        list_->clear();
        for (const auto& d : all) {
            auto* item = new QListWidgetItem(QString::fromStdString(d.name), list_);
            item->setData(Qt::UserRole, QString::fromStdString(d.id));
            item->setToolTip(QString::fromStdString(d.path.string()));
            if (d.id == selected_id_) list_->setCurrentItem(item);
        }
        if (!list_->currentItem() && !all.empty()) {
            list_->setCurrentRow(0);
            selected_id_ = all[0].id;
        }
        if (all.empty()) selected_id_.clear();
    }
    const Deliverable* d = selected();
    for (QWidget* w : std::initializer_list<QWidget*>{mapping_, stereo_, codec_, depth_, width_, quality_,
                                                      sound_, distances_, file_, remove_, render_, all_})
        w->setEnabled(d != nullptr);
    add_->setEnabled(session_.shot() != nullptr);
    if (!d) {
        size_->clear();
        checks_->setText(session_.shot()
                             ? "Choose a preset and add it: it becomes a deliverable you can change."
                             : "Gather a take first.");
        refresh_queue();
        return;
    }
    const bool movie = d->container == Container::mp4 || d->container == Container::mov;
    codec_->setCurrentIndex(form_of(*d));
    mapping_->setCurrentIndex(int(d->mapping));
    stereo_->setCurrentIndex(int(d->stereo));
    depth_->setCurrentIndex(d->depth > 8 || !movie || d->codec == VideoCodec::prores ? 1 : 0);
    depth_->setEnabled(movie && d->codec != VideoCodec::prores);
    quality_->setEnabled(movie && d->codec != VideoCodec::prores);
    bit_rate_->setEnabled(quality_->isEnabled());
    bit_rate_->set_quietly(double(d->bit_rate) / 1e6);
    sound_->setEnabled(movie);
    width_->set_quietly(d->width);
    quality_->set_quietly(d->crf);
    sound_->setChecked(d->sound && movie);
    distances_->setEnabled(d->container == Container::exr_sequence);
    distances_->setCurrentIndex(!d->distances || !distances_->isEnabled() ? 0 : d->distances_apart ? 2 : 1);
    if (!file_->hasFocus() || !file_->isModified()) file_->setText(QString::fromStdString(d->path.string()));
    file_->setToolTip(file_->text());
    const auto size = frame_size(*d);
    const Shot* shot = find_shot(*session_.project(), d->shot);
    if (shot) {
        const Span span = used_span(*session_.project(), *shot, *session_.library());
        size_->setText(
            QString("%1 × %2 px, %3 s, about %4 MB")
                .arg(size.width)
                .arg(size.height)
                .arg((span.out - span.in).to_double(), 0, 'f', 2)
                .arg(double(expected_bytes(*d, span.out - span.in, shot->timing.rate)) / 1e6, 0, 'f', 0));
    }
    const Preflight checks = preflight(*session_.project(), *d, *session_.library());
    QString words;
    for (const auto& s : checks.stops) words += "■ " + QString::fromStdString(s) + "\n";
    for (const auto& s : checks.warnings) words += "▲ " + QString::fromStdString(s) + "\n";
    checks_->setText(words.isEmpty() ? "● Ready to render." : words.trimmed());
    checks_->setStyleSheet(QString("color: %1;")
                               .arg((!checks.stops.empty()      ? colour::stop
                                     : !checks.warnings.empty() ? colour::care
                                                                : colour::good)
                                        .name()));
    refresh_queue();
}

void MasterPanel::refresh_queue() {
    const auto* job = queue_.job(selected_id_);
    using State = RenderQueue::State;
    const bool running = job && job->state == State::running;
    stop_->setEnabled(job && (running || job->state == State::waiting));
    if (!job) {
        progress_->setValue(0);
        progress_->setFormat("");
        state_->setText(queue_.is_busy() ? "Another deliverable is being rendered." : "Not rendered yet.");
        return;
    }
    const RenderProgress& p = job->progress;
    progress_->setValue(job->state == State::done ? 1000
                        : p.frames > 0            ? int(1000 * p.frames_done / p.frames)
                                                  : 0);
    progress_->setFormat(
        job->state == State::done ? "done" : QString("%1 of %2 frames").arg(p.frames_done).arg(p.frames));
    switch (job->state) {
    case State::waiting:
        state_->setText("Waiting its turn.");
        break;
    case State::running:
        state_->setText(QString("%1 frames a second, %2 gone, %3 left, %4 MB so far")
                            .arg(p.frames_per_second, 0, 'f', 1)
                            .arg(duration_text(p.seconds_gone), duration_text(p.seconds_left))
                            .arg(double(p.bytes) / 1e6, 0, 'f', 1));
        break;
    case State::done:
        state_->setText(QString("Done in %1, %2 MB.")
                            .arg(duration_text(p.seconds_gone))
                            .arg(double(p.bytes) / 1e6, 0, 'f', 1));
        break;
    case State::failed:
        state_->setText("■ " + job->words);
        break;
    case State::stopped:
        state_->setText("Stopped; nothing was left behind.");
        break;
    }
}

} // namespace porb::app
