// A client in a process of its own: what it reads on its own account, before it is asked.
#include "share/client_process.hpp"

#include <catch2/catch.hpp>

#include <fstream>
#include <thread>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using share::Answer;
using share::Entry;

namespace {

constexpr std::size_t kPiece = 1 << 20;
constexpr std::uint64_t kSize = 5 * kPiece + 1000;

std::uint8_t byte_at(int file, std::uint64_t offset) {
    return static_cast<std::uint8_t>(offset / 977 + offset * 7 + static_cast<std::uint64_t>(file) * 101);
}

// A server of numbered files; says in a file what was read of them. File 9 ends the process.
class Files : public share::Client {
  public:
    explicit Files(base::Path log) : log_(std::move(log)) {}
    Answer<std::vector<Entry>> list(const std::string&) override { return {}; }
    Answer<Entry> look(const std::string&) override { return Entry{}; }
    Answer<int> open(const std::string&, Open) override { return 1; }
    Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) override {
        if (file == 9) ::_exit(1);
        std::ofstream(log_, std::ios::app) << file << ':' << offset / kPiece << ' ';
        const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), kSize - offset));
        for (std::size_t i = 0; i < count; ++i) into[i] = byte_at(file, offset + i);
        return count;
    }
    Answer<std::size_t> write(int, std::uint64_t, ByteSpan bytes) override { return bytes.size(); }
    Answer<void> close(int) override { return {}; }
    Answer<void> remove(const std::string&) override { return {}; }
    Answer<void> make_folder(const std::string&) override { return {}; }
    Answer<void> remove_folder(const std::string&) override { return {}; }
    Answer<void> rename(const std::string&, const std::string&) override { return {}; }
    Answer<std::uint64_t> free_space(const std::string&) override { return 0; }

  private:
    base::Path log_;
};

struct Server {
    TempDir dir;
    std::unique_ptr<share::Client> client =
        share::in_own_process([log = dir / "log"] { return std::make_unique<Files>(log); }, base::from_seconds(10));

    // Reads a piece and holds it against what it must be.
    bool right(int file, std::uint64_t offset, std::size_t count = kPiece) {
        ByteVector bytes(count);
        const auto got = client->read(file, offset, bytes);
        if (!got || *got != std::min<std::uint64_t>(count, kSize - offset)) return false;
        for (std::size_t i = 0; i < *got; ++i) {
            if (bytes[i] != byte_at(file, offset + i)) return false;
        }
        return true;
    }
    std::string log() const { return read_text(dir / "log"); }
    // What it reads by itself comes after the answer.
    bool logs(const std::string& text) const {
        for (int i = 0; i < 200 && log() != text; ++i) std::this_thread::sleep_for(10ms);
        INFO(log());
        CHECK(log() == text);
        return log() == text;
    }
};

}  // namespace

TEST_CASE("a file of a share that is read in order is read on before it is asked for", "[share]") {
    Server server;
    CHECK(server.right(1, 0));
    CHECK(server.right(1, kPiece));
    CHECK(server.logs("1:0 1:1 1:2 "));
    CHECK(server.right(1, 2 * kPiece));
    CHECK(server.logs("1:0 1:1 1:2 1:3 "));
    SECTION("to its end, nothing twice") {
        CHECK(server.right(1, 3 * kPiece));
        CHECK(server.right(1, 4 * kPiece));
        CHECK(server.right(1, 5 * kPiece, 1000));
        CHECK(server.logs("1:0 1:1 1:2 1:3 1:4 1:5 "));
    }
    SECTION("another place") {
        CHECK(server.right(1, 5000));
        CHECK(server.right(1, 4 * kPiece, 100));
        CHECK(server.logs("1:0 1:1 1:2 1:3 1:0 1:4 "));
    }
    SECTION("another file by turns: what is kept is kept on, and nothing more read") {
        CHECK(server.right(2, 0));
        CHECK(server.right(2, kPiece));
        CHECK(server.right(1, 3 * kPiece));
        CHECK(server.logs("1:0 1:1 1:2 1:3 2:0 2:1 "));
    }
    SECTION("another question: the file may be another now") {
        CHECK(server.client->close(1));
        CHECK(server.right(1, 3 * kPiece));
        CHECK(server.logs("1:0 1:1 1:2 1:3 1:3 1:4 "));
    }
    SECTION("a process that ended is begun anew") {
        ByteVector bytes(10);
        CHECK(server.client->read(9, 0, bytes).error() == EIO);
        CHECK(server.right(1, 3 * kPiece));
    }
}
