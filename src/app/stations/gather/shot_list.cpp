#include "app/stations/gather/shot_list.h"

#include "app/widgets/theme.h"

#include <QSignalBlocker>

namespace porb::app {

namespace {
constexpr int kWidth = 88, kHeight = 44;
constexpr int kIdRole = Qt::UserRole;
} // namespace

ShotList::ShotList(Session& session, PictureService& service, QWidget* parent)
    : QListWidget(parent), session_(session), service_(service) {
    setObjectName("shot_list");
    connect(&job_, &BackgroundJob::ended, this, &ShotList::start_next);
    setAccessibleName("Shots");
    setIconSize({kWidth, kHeight});
    setUniformItemSizes(true);
    setDragDropMode(QAbstractItemView::InternalMove);
    setDefaultDropAction(Qt::MoveAction);
    setEditTriggers(QAbstractItemView::EditKeyPressed | QAbstractItemView::DoubleClicked);
    connect(this, &QListWidget::currentRowChanged, this, [this](int row) {
        if (row >= 0) session_.choose_shot(item(row)->data(kIdRole).toString().toStdString());
    });
    connect(this, &QListWidget::itemChanged, this, [this](QListWidgetItem* changed) {
        const std::string id = changed->data(kIdRole).toString().toStdString();
        const std::string name = changed->text().section('\n', 0, 0).trimmed().toStdString();
        const Shot* shot = find_shot(*session_.project(), id);
        if (!shot || name.empty() || name == shot->name) return;
        session_.edit("Rename a shot", [&](Project& p) { find_shot(p, id)->name = name; });
    });
    connect(model(), &QAbstractItemModel::rowsMoved, this, [this] {
        std::vector<std::string> order;
        for (int i = 0; i < count(); ++i) order.push_back(item(i)->data(kIdRole).toString().toStdString());
        session_.edit("Order the shots", [&](Project& p) {
            p.shots.stable_sort([&](const Shot& a, const Shot& b) {
                return std::find(order.begin(), order.end(), a.id) <
                       std::find(order.begin(), order.end(), b.id);
            });
        });
    });
}

ShotList::~ShotList() = default;

void ShotList::refresh() {
    const QSignalBlocker block(this);
    const Project& p = *session_.project();
    while (count() > int(p.shots.size())) delete takeItem(count() - 1);
    while (count() < int(p.shots.size())) addItem(new QListWidgetItem);
    for (int i = 0; i < count(); ++i) {
        const Shot& s = p.shots[std::size_t(i)];
        const auto with = std::count_if(s.cameras.begin(), s.cameras.end(),
                                        [](const ShotCamera& c) { return !c.media.empty(); });
        item(i)->setText(QString("%1\n%2 of %3 sources, %4 fps")
                             .arg(QString::fromStdString(s.name))
                             .arg(with)
                             .arg(s.cameras.size())
                             .arg(s.timing.rate.to_double(), 0, 'g', 5));
        item(i)->setData(kIdRole, QString::fromStdString(s.id));
        item(i)->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsEditable |
                          Qt::ItemIsDragEnabled);
        item(i)->setToolTip("F2 renames, Delete removes, drag to order");
        if (session_.shot() && session_.shot()->id == s.id) setCurrentRow(i);
        if (!known_.count(s.id)) {
            QPixmap empty(kWidth, kHeight);
            empty.fill(colour::field);
            item(i)->setIcon(empty);
        } else {
            item(i)->setIcon(known_[s.id].picture);
        }
        wish_thumbnail(s);
    }
}

void ShotList::wish_thumbnail(const Shot& s) {
    Thumbnail now{plan_key(s, View{}), {}, s.timing.in, {}};
    for (const auto& c : s.cameras) now.media.push_back(c.media + c.offset.to_string());
    const auto it = known_.find(s.id);
    if (it != known_.end() && it->second == now) return;
    now.picture = it != known_.end() ? it->second.picture : QPixmap(kWidth, kHeight);
    if (it == known_.end()) now.picture.fill(colour::field);
    known_[s.id] = now;
    if (std::find(wished_.begin(), wished_.end(), s.id) == wished_.end()) wished_.push_back(s.id);
    start_next();
}

void ShotList::start_next() {
    if (job_.is_running() || wished_.empty()) return;
    const std::string id = wished_.front();
    wished_.erase(wished_.begin());
    job_.start([this, id, project = session_.project()](const BackgroundJob::Tell&,
                                                        const Cancel& cancel) -> BackgroundJob::Finish {
        QImage image;
        try {
            const Shot* shot = find_shot(*project, id);
            View view;
            view.target = equirect_target(2 * kWidth);
            view.filter = Filter::linear;
            if (shot)
                image = image_of(service_.composer().compose(*project, *shot, shot->timing.in, view, cancel));
        } catch (const Cancelled&) {
            throw;
        } catch (const std::exception&) {
            // A shot without readable sources has no thumbnail; Gather says which is missing.
        }
        return [this, id, image] {
            if (image.isNull() || !known_.count(id)) return;
            known_[id].picture = QPixmap::fromImage(
                image.convertToFormat(QImage::Format_RGB32)
                    .scaled(kWidth, kHeight, Qt::IgnoreAspectRatio, Qt::SmoothTransformation));
            const QSignalBlocker block(this);
            for (int i = 0; i < count(); ++i)
                if (item(i)->data(kIdRole).toString().toStdString() == id)
                    item(i)->setIcon(known_[id].picture);
        };
    });
}

void ShotList::remove_current() {
    if (!currentItem()) return;
    const std::string id = currentItem()->data(kIdRole).toString().toStdString();
    session_.edit("Remove shot " + currentItem()->text().section('\n', 0, 0), [&](Project& p) {
        p.shots.erase_if([&](const Shot& s) { return s.id == id; });
        std::erase_if(p.deliverables, [&](const Deliverable& d) { return d.shot == id; });
        std::erase_if(p.media, [&](const Media& m) { // files that no shot needs any more
            return std::none_of(std::as_const(p.shots).begin(), std::as_const(p.shots).end(),
                                [&](const Shot& s) {
                                    return s.timing.sound == m.id ||
                                           std::any_of(s.cameras.begin(), s.cameras.end(),
                                                       [&](const ShotCamera& c) { return c.media == m.id; });
                                });
        });
    });
}

} // namespace porb::app
