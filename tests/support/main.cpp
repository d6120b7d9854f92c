#define CATCH_CONFIG_MAIN
#include <catch2/catch.hpp>

// One of the encoders that tests take their material from keeps what it allocated for itself.
extern "C" const char* __lsan_default_suppressions();
extern "C" const char* __lsan_default_suppressions() {
    return "leak:libx265\nleak:libvorbisenc\n";
}
