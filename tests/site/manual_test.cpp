// Every key of the configuration files stands in the manual: the parsers themselves say which there are.
#include <catch2/catch.hpp>
#include <regex>
#include <set>

#include "device/device.hpp"
#include "profile/profile.hpp"
#include "site/site.hpp"
#include "standin/disc_description.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// What a parser answers to a key that is like no other, in each of its tables.
template <typename Parsed>
std::set<std::string> keys_told(const Parsed& parsed) {
    REQUIRE_FALSE(parsed);
    std::vector<Error> errors = parsed.error().further;
    errors.push_back(parsed.error());
    std::set<std::string> keys;
    for (const Error& error : errors) {
        const std::string begin = "valid keys: ";
        const std::size_t at = error.remedy.find(begin);
        if (at == std::string::npos) continue;
        const std::regex word("[a-z_]+");
        const std::string list = error.remedy.substr(at + begin.size());
        for (std::sregex_iterator i(list.begin(), list.end(), word), end; i != end; ++i) keys.insert(i->str());
    }
    return keys;
}

const std::string kUnlike = "qqqqqqqqqqqqqqqqqqqqqqqq = 1\n";

}  // namespace

TEST_CASE("every key of the configuration files stands in the manual", "[manual]") {
    const ByteVector bytes = read_all(base::Path(WAVECREST_SOURCE) / "docs" / "manual.md");
    const std::string manual(bytes.begin(), bytes.end());
    // In a table's row, as `key` or `[table] key`.
    std::set<std::string> written;
    const std::regex quoted("`(?:\\[+[a-z.]+\\]+ )?([a-z_]+(?:, [a-z_]+)*)`");
    const std::regex word("[a-z_]+"), table("\\[+([a-z_.]+)\\]+");
    for (std::sregex_iterator i(manual.begin(), manual.end(), table), end; i != end; ++i) {
        const std::string names = (*i)[1].str();
        for (std::sregex_iterator k(names.begin(), names.end(), word); k != end; ++k) written.insert(k->str());
    }
    for (std::sregex_iterator i(manual.begin(), manual.end(), quoted), end; i != end; ++i) {
        const std::string keys = (*i)[1].str();
        for (std::sregex_iterator k(keys.begin(), keys.end(), word); k != end; ++k) written.insert(k->str());
    }
    const auto check = [&](const char* file, const std::set<std::string>& keys, std::size_t least) {
        INFO(file);
        CHECK(keys.size() >= least);
        for (const std::string& key : keys) {
            INFO(key);
            CHECK(written.contains(key));
        }
    };
    check("site",
          keys_told(site::parse(kUnlike + "[site]\n" + kUnlike + "[server]\n" + kUnlike + "[[device]]\n" + kUnlike +
                                    "[[stream]]\n" + kUnlike,
                                "s.toml")),
          40);
    check(
        "device",
        keys_told(device::parse(
            kUnlike + "[plays]\n" + kUnlike + "[[plays.video]]\n" + kUnlike + "[[plays.audio]]\n" + kUnlike, "d.toml")),
        15);
    check("profile",
          keys_told(profile::parse(kUnlike + "[video]\n" + kUnlike + "[audio]\n" + kUnlike + "[subtitles]\n" + kUnlike,
                                   "p.toml")),
          24);
    check("disc",
          keys_told(standin::parse_disc_description(kUnlike + "[[audio]]\n" + kUnlike + "[[subtitles]]\n" + kUnlike +
                                                        "[[part]]\n" + kUnlike + "[[part.flaw]]\n" + kUnlike +
                                                        "[[playlist]]\n" + kUnlike + "[[file_flaw]]\n" + kUnlike,
                                                    "disc.toml")),
          28);
}

TEST_CASE("all errors of a site file are told at once, in its order", "[site][manual]") {
    const auto parsed = site::parse(
        "[site]\nname = 5\n[server]\nport = 99999\n[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hx\"\n"
        "[[stream]]\nname = \"a\"\nfile = \"a.mp4\"\ndelivry = [\"live\"]\n[[stream]]\nname = \"b\"\nloop = \"yes\"\n",
        "site.toml");
    REQUIRE_FALSE(parsed);
    std::vector<std::string> places = {parsed.error().where};
    for (const Error& error : parsed.error().further) places.push_back(error.where);
    CHECK(places == std::vector<std::string>{"site.toml, line 2", "site.toml, line 4", "site.toml, line 7",
                                             "site.toml, line 11", "site.toml, line 13", "site.toml, line 14"});
}

TEST_CASE("options of the command line are read as the keys of a site file, and errors name them", "[site]") {
    using Words = std::vector<std::string>;
    const auto parse = [](std::vector<base::ConfigOption> options) {
        options.push_back({"stream", "name", std::string("Lake")});
        options.push_back({"stream", "files", Words{"a\xE9.mp4"}});  // a name that is no UTF-8
        return site::parse_options(options);
    };
    const auto fine = parse({{"stream", "delivery", Words{"live", "hls"}},
                             {"stream", "audio", Words{"en"}},
                             {"stream", "loop", true},
                             {"stream", "chapter", std::int64_t{3}},
                             {"stream", "bitrate", std::string("8 Mbps")},
                             {"server", "ttl", std::int64_t{9}}});
    REQUIRE(fine);
    REQUIRE(fine->streams.size() == 1);
    const stream::ServedStream& item = fine->streams[0].item;
    CHECK(item.deliveries.live);
    CHECK(item.deliveries.hls);
    CHECK_FALSE(item.deliveries.file);
    CHECK(item.loop);
    CHECK(item.rate_bps == 8'000'000);
    REQUIRE(item.parts.size() == 1);
    CHECK(item.parts[0].source == "a\xE9.mp4");
    CHECK(item.parts[0].chapter == 3);
    CHECK(item.parts[0].choice.audio == Words{"en"});
    CHECK(fine->udp.ttl == 9);
    const auto wrong = parse({{"stream", "delivery", Words{"live", "post"}},
                              {"stream", "burn_in", std::string("en")},
                              {"server", "ttl", std::int64_t{999}}});
    REQUIRE_FALSE(wrong);
    std::vector<std::string> where{wrong.error().where};
    for (const Error& one : wrong.error().further) where.push_back(one.where);
    std::sort(where.begin(), where.end());
    CHECK(where == Words{"--burn-in", "--delivery", "--ttl"});
    // A stream that is only sent is served by no other way.
    const auto sent = parse({{"stream", "udp", Words{"239.20.0.1:5004"}}, {"stream", "delivery", Words{}}});
    REQUIRE(sent);
    CHECK_FALSE(sent->streams[0].item.deliveries.any());
    CHECK(parse({{"stream", "udp", Words{"239.20.0.1:5004"}}})->streams[0].item.deliveries.file);
}
