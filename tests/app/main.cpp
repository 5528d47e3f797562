// The window's tests share one application, with settings of its own that go away with it.
#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>

#include "app/session/application.h"
#include "app/widgets/theme.h"
#include "media/info.h"
#include "support/support.h"

#include <QApplication>
#include <QSettings>

using namespace porb;

int main(int argc, char** argv) {
    const test::TempFolder configuration;
    qputenv("XDG_CONFIG_HOME", QByteArray::fromStdString(configuration.path().string()));
    quiet_media_libraries();
    app::Application application(argc, argv);
    QApplication::setApplicationName("pale-orbit");
    QApplication::setOrganizationName("pale-orbit");
    QSettings::setDefaultFormat(QSettings::IniFormat);
    app::apply_theme(application);
    QSettings().setValue("eyes/by_themselves", false);
    QSettings().setValue("proxies/by_themselves",
                         false); // or a slow machine makes some in any test that plays
    return Catch::Session().run(argc, argv);
}
