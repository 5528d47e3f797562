#include "app/stations/gather/take_tree.h"

#include "app/widgets/theme.h"

#include <QDropEvent>
#include <QHeaderView>
#include <QKeyEvent>
#include <QSignalBlocker>

namespace porb::app {

namespace {
constexpr int kTakeRole = Qt::UserRole, kFileRole = Qt::UserRole + 1;
}

TakeTree::TakeTree(QWidget* parent) : QTreeWidget(parent) {
    setObjectName("take_tree");
    setAccessibleName("Proposed takes");
    setHeaderHidden(true);
    setRootIsDecorated(true);
    setDragDropMode(QAbstractItemView::InternalMove);
    setDefaultDropAction(Qt::MoveAction);
    setTextElideMode(Qt::ElideMiddle);
    setToolTip(
        "Drag a file to the take it belongs to, or onto free ground for a take of its own (Ctrl+X, Ctrl+V)");
    connect(this, &QTreeWidget::itemChanged, this, &TakeTree::changed);
    connect(this, &QTreeWidget::currentItemChanged, this, &TakeTree::changed);
}

void TakeTree::set_takes(std::vector<Take> takes, std::vector<FoundFile> files) {
    takes_ = std::move(takes);
    files_ = std::move(files);
    cut_.reset();
    show_takes();
}

void TakeTree::show_takes() {
    const QSignalBlocker block(this);
    std::vector<bool> ticked(takes_.size(), true);
    for (int i = 0; i < topLevelItemCount() && i < int(ticked.size()); ++i)
        ticked[std::size_t(i)] = topLevelItem(i)->checkState(0) == Qt::Checked;
    clear();
    for (std::size_t t = 0; t < takes_.size(); ++t) {
        const Take& take = takes_[t];
        const bool odd = !take.remarks.empty();
        auto* top = new QTreeWidgetItem(this);
        const QString what = take.circles_per_picture == 2 ? "one file, two circles"
                             : take.files.size() == 1      ? "one file"
                                                           : QString("%1 cameras").arg(take.files.size());
        top->setText(0, QString("%1 — %2").arg(QString::fromStdString(take.name), what));
        top->setIcon(0, signal_icon(odd ? Signal::care : Signal::good));
        top->setCheckState(0, ticked[t] ? Qt::Checked : Qt::Unchecked);
        top->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsDropEnabled |
                      Qt::ItemIsUserCheckable);
        top->setData(0, kTakeRole, int(t));
        for (std::size_t i = 0; i < take.files.size(); ++i) {
            const MediaInfo& info = files_[take.files[i]].info;
            auto* item = new QTreeWidgetItem(top);
            item->setText(0, QString::fromStdString(info.ref.path.filename().string()));
            const bool marked = std::any_of(take.remarks.begin(), take.remarks.end(),
                                            [&](const TakeRemark& r) { return r.file == int(i); });
            if (marked) item->setIcon(0, signal_icon(Signal::care));
            item->setToolTip(0, QString("%1\n%2 × %3, %4 s, %5 fps")
                                    .arg(QString::fromStdString(info.ref.path.string()))
                                    .arg(info.width)
                                    .arg(info.height)
                                    .arg(info.duration.to_double(), 0, 'f', 2)
                                    .arg(info.rate.to_double(), 0, 'g', 6));
            item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsDragEnabled);
            item->setData(0, kTakeRole, int(t));
            item->setData(0, kFileRole, int(take.files[i]));
        }
        top->setExpanded(takes_.size() <= 4 || odd);
    }
    if (topLevelItemCount() > 0) setCurrentItem(topLevelItem(0));
}

std::vector<Take> TakeTree::wanted() const {
    std::vector<Take> out;
    for (int i = 0; i < topLevelItemCount(); ++i)
        if (topLevelItem(i)->checkState(0) == Qt::Checked) out.push_back(takes_[std::size_t(i)]);
    return out;
}

std::optional<std::size_t> TakeTree::current_take() const {
    if (!currentItem()) return std::nullopt;
    return std::size_t(currentItem()->data(0, kTakeRole).toInt());
}

std::optional<std::size_t> TakeTree::current_file() const {
    if (!currentItem() || !currentItem()->data(0, kFileRole).isValid()) return std::nullopt;
    return std::size_t(currentItem()->data(0, kFileRole).toInt());
}

QString TakeTree::words() const {
    const auto t = current_take();
    if (!t || *t >= takes_.size()) return {};
    QStringList lines;
    for (const auto& r : takes_[*t].reasons) lines << QString::fromStdString(r);
    for (const auto& r : takes_[*t].remarks) lines << "▲ " + QString::fromStdString(r.text);
    return lines.join("\n");
}

void TakeTree::move_file(std::size_t f, std::size_t to) {
    const auto from = std::find_if(takes_.begin(), takes_.end(), [&](const Take& t) {
        return std::find(t.files.begin(), t.files.end(), f) != t.files.end();
    });
    if (from == takes_.end() || to > takes_.size() || to == std::size_t(from - takes_.begin())) return;
    if (to == takes_.size() && from->files.size() == 1) return; // it is one of its own already
    const auto i = std::size_t(std::find(from->files.begin(), from->files.end(), f) - from->files.begin());
    const std::string mark = i < from->marks.size() ? from->marks[i] : "";
    from->files.erase(from->files.begin() + std::ptrdiff_t(i));
    if (i < from->marks.size()) from->marks.erase(from->marks.begin() + std::ptrdiff_t(i));
    const auto from_index = std::size_t(from - takes_.begin());
    if (to == takes_.size()) {
        Take own;
        own.name = files_[f].info.ref.path.stem().string();
        own.circles_per_picture = files_[f].circles == 2 ? 2 : 1;
        takes_.push_back(own);
    }
    Take& target = takes_[to];
    if (!target.files.empty()) target.circles_per_picture = 1;
    target.files.push_back(f);
    target.marks.push_back(mark);
    for (auto* t : {&takes_[from_index], &target}) *t = described(std::move(*t), files_);
    if (takes_[from_index].files.empty()) takes_.erase(takes_.begin() + std::ptrdiff_t(from_index));
    show_takes();
    emit changed();
}

void TakeTree::dropEvent(QDropEvent* event) {
    const auto file = current_file();
    QTreeWidgetItem* over = itemAt(event->position().toPoint());
    event->setDropAction(Qt::IgnoreAction); // the takes are what moves; the rows follow them
    event->accept();
    if (file) move_file(*file, over ? std::size_t(over->data(0, kTakeRole).toInt()) : takes_.size());
}

void TakeTree::keyPressEvent(QKeyEvent* event) {
    if (event->matches(QKeySequence::Cut)) {
        cut_ = current_file();
        return;
    }
    if (event->matches(QKeySequence::Paste) && cut_ && current_take()) {
        const auto f = *cut_;
        cut_.reset();
        return move_file(f, *current_take());
    }
    QTreeWidget::keyPressEvent(event);
}

} // namespace porb::app
