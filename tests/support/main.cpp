#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>

#include "media/info.h"

int main(int argc, char** argv) {
    porb::quiet_media_libraries();
    return Catch::Session().run(argc, argv);
}
