#include "app/shell/memory_dialog.h"

#include "app/widgets/number_field.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QLabel>
#include <QPushButton>
#include <QSettings>
#include <QVBoxLayout>

#include <cmath>

namespace porb::app {

namespace {
constexpr const char* kSetting = "memory_gb";
constexpr double kGigabyte = 1e9;

double default_gb() {
    return double(CacheBound::default_bytes()) / kGigabyte;
}

// To the nearest: what was made of a number of bytes is to give that number again.
std::size_t bytes_of(double gigabytes) {
    return std::size_t(std::llround(gigabytes * kGigabyte));
}
} // namespace

std::shared_ptr<CacheBound> chosen_memory() {
    const double chosen = QSettings().value(kSetting, default_gb()).toDouble();
    return std::make_shared<CacheBound>(bytes_of(kMemory_gb.holds(chosen) ? chosen : default_gb()));
}

void ask_for_memory(CacheBound& memory, QWidget* parent) {
    auto* dialog = new QDialog(parent);
    dialog->setObjectName("memory_dialog");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle("Memory for pictures");
    auto* column = new QVBoxLayout(dialog);
    auto* words =
        new QLabel(QString("Frames, blend plans and distances that were made are kept to be shown again, "
                           "until together they take this much. More makes going back and forth "
                           "quicker; less leaves room for other programs.\n\nNow %1 GB are in use. Unless "
                           "set, it is a third of this machine's memory: %2 GB.")
                       .arg(double(memory.used()) / kGigabyte, 0, 'f', 1)
                       .arg(default_gb(), 0, 'f', 1));
    words->setWordWrap(true);
    words->setMinimumWidth(400);
    column->addWidget(words);
    auto* field = new NumberField(kMemory_gb, 0.5, 2, "GB");
    field->setObjectName("memory_gb");
    field->setToolTip("What all that is kept may take together");
    field->set_quietly(double(memory.limit()) / kGigabyte);
    column->addWidget(field);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    auto* again = buttons->addButton("Default", QDialogButtonBox::ResetRole);
    again->setObjectName("memory_default");
    again->setToolTip("A third of this machine's memory");
    QObject::connect(again, &QPushButton::clicked, field, [field] { field->set_quietly(default_gb()); });
    QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
    QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, [dialog, field, &memory] {
        memory.set_limit(bytes_of(field->value()));
        QSettings().setValue(kSetting, field->value());
        dialog->accept();
    });
    column->addWidget(buttons);
    dialog->setModal(true);
    dialog->show();
}

} // namespace porb::app
