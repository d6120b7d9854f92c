// share prove: file servers and what lies on them.
#include <termios.h>
#include <unistd.h>

#include <cstdio>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/share.hpp"
#include "cli/terminal.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "share/account.hpp"
#include "share/find.hpp"
#include "share/prove.hpp"
#include "site/paths.hpp"
#include "source/share_input.hpp"

namespace wavecrest::cli {
namespace {

using share::ProofStep;

// Of --for.
Result<Time> length_of(const std::string& text, Time usual) {
    if (text.empty()) return usual;
    const auto length = base::parse_span(text);
    if (!length || length->count() <= 0)
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", text), "--for",
                    "write for example \"10 s\" or \"1 min\"");
    return *length;
}

// Typed by a person, without being shown.
Result<std::string> ask_password(const std::string& user, const std::string& host) {
    std::FILE* const terminal = std::fopen("/dev/tty", "r+e");
    if (terminal == nullptr)
        return fail(ErrorKind::usage, fmt::format("the password of \"{}\" is needed, and there is no terminal", user),
                    "the command line", "give --password-file FILE");
    termios before{};
    const bool known = ::tcgetattr(::fileno(terminal), &before) == 0;
    termios hidden = before;
    hidden.c_lflag &= ~static_cast<tcflag_t>(ECHO);
    if (known) ::tcsetattr(::fileno(terminal), TCSAFLUSH, &hidden);
    std::fprintf(terminal, "Password of %s at %s: ", base::printable(user).c_str(), base::printable(host).c_str());
    std::fflush(terminal);
    std::string password;
    int c = 0;
    while (!cancel().requested() && (c = std::fgetc(terminal)) != EOF && c != '\n') password += static_cast<char>(c);
    if (known) ::tcsetattr(::fileno(terminal), TCSAFLUSH, &before);
    std::fprintf(terminal, "\n");
    std::fclose(terminal);
    if (cancel().requested()) return base::interrupted();
    return password;
}

}  // namespace

Result<share::Account> account_of(const ShareOptions& options, const share::Location& location) {
    if (options.user.empty()) {
        if (!options.password_file.empty())
            return fail(ErrorKind::usage, "--password-file is for --user", "the command line", "add --user NAME");
        if (options.keep)
            return fail(ErrorKind::usage, "--keep keeps an account, and none is named", "the command line",
                        "add --user NAME");
        WAVECREST_TRY_ASSIGN(accounts, share::Accounts::load(share::accounts_file()));
        return accounts.find(location);
    }
    if (location.scheme == base::Scheme::nfs)
        return fail(ErrorKind::usage, "NFS knows no user names and passwords: servers go by addresses and user numbers",
                    "--user", "leave it out");
    std::string password;
    if (options.password_file.empty()) {
        WAVECREST_TRY_ASSIGN(typed, ask_password(options.user, location.host));
        password = std::move(typed);
    } else {
        WAVECREST_TRY_ASSIGN(text, base::read_text_file(options.password_file, 4096));
        password = text.substr(0, text.find_first_of("\r\n"));
    }
    return share::account_of(options.user, password);
}

namespace {

const char* word(ProofStep::State state) {
    switch (state) {
        case ProofStep::State::passed:
            return "pass";
        case ProofStep::State::warning:
            return "warn";
        case ProofStep::State::failed:
            return "fail";
        case ProofStep::State::not_tried:
            break;
    }
    return "not tried";
}

nlohmann::ordered_json to_json(const share::Proof& proof) {
    nlohmann::ordered_json steps = nlohmann::ordered_json::array();
    bool warned = false;
    for (const ProofStep& step : proof.steps) {
        warned = warned || step.state == ProofStep::State::warning;
        steps.push_back({{"name", step.name}, {"verdict", word(step.state)}, {"found", step.found}});
        if (!step.remedy.empty()) steps.back()["remedy"] = step.remedy;
    }
    nlohmann::ordered_json result = {{"address", proof.location.text()},
                                     {"user", proof.user},
                                     {"verdict", !proof.passed() ? "fail"
                                                 : warned        ? "warn"
                                                                 : "pass"},
                                     {"steps", std::move(steps)},
                                     {"files", proof.files},
                                     {"folders", proof.folders}};
    if (proof.read_bps > 0) {
        result["read_bps"] = proof.read_bps;
        result["slowest_second_bps"] = proof.slowest_bps;
        result["readers_together_bps"] = proof.together_bps;
        result["seek_s"] = base::to_seconds(proof.seek);
        result["slowest_seek_s"] = base::to_seconds(proof.slowest_seek);
    }
    if (proof.highest_bps > 0) {
        result["highest_bitrate_bps"] = proof.highest_bps;
        result["highest_bitrate_of"] = proof.highest;
        result["at_once"] = proof.at_once;
    }
    return result;
}

void print_proof(const share::Proof& proof) {
    print("{}{}\n\n", proof.location.text(), proof.user.empty() ? "" : fmt::format(", as {}", proof.user));
    std::size_t width = 0;
    for (const ProofStep& step : proof.steps) width = std::max(width, step.name.size());
    for (const ProofStep& step : proof.steps) {
        print("  {:<{}}  {:<4}  {}\n", step.name, width, word(step.state), step.found);
        if (!step.remedy.empty()) print("  {:<{}}        to do: {}\n", "", width, step.remedy);
    }
    if (proof.read_bps == 0) return;
    print("\n  {:<27}  {}, slowest second {}\n", "sustained read", base::format_bitrate(proof.read_bps),
          base::format_bitrate(proof.slowest_bps));
    print("  {:<27}  {}\n", fmt::format("{} readers at once", proof.readers), base::format_bitrate(proof.together_bps));
    print("  {:<27}  median {}, at most {}\n", "seeks", base::format_span(proof.seek),
          base::format_span(proof.slowest_seek));
    if (proof.highest_bps == 0) return;
    print("  {:<27}  {} ({})\n", "highest bit rate (average)", base::format_bitrate(proof.highest_bps), proof.highest);
    if (proof.at_once > 0)
        print("\nCarries {} of {} at once.\n",
              proof.at_once > 99 ? std::string("more than 99 films")
                                 : base::format_count(static_cast<std::size_t>(proof.at_once), "film"),
              base::format_bitrate(proof.highest_bps));
}

}  // namespace

namespace {

struct Player {
    device::Device device;
    device::Link link;
};
// Of --device and --link.
Result<std::optional<Player>> player_of(const ShareOptions& options) {
    if (options.device.empty() && !options.link.empty())
        return fail(ErrorKind::usage, "--link is for --device", "--link", "add --device NAME");
    if (options.device.empty()) return std::nullopt;
    WAVECREST_TRY_ASSIGN(device, device::find(options.device));
    const auto link = device::parse_link(options.link.empty() ? "gigabit" : options.link);
    if (!link)
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid link", options.link), "--link",
                    "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\"");
    return Player{std::move(device), *link};
}

void print_paths(const site::PathComparison& both, const Player& player, const std::string& file) {
    print("\n{} on {} ({}):\n", file, player.device.name, player.link.name);
    for (const verify::Verification* const one : {&both.straight, &both.through})
        print("  {:<24}  {:<4}  {}\n", one->stream, device::short_name(one->verdict), one->summary);
    print("Compared: {}{}.\n", site::in_words(both.smoother), both.why.empty() ? "" : " (" + both.why + ")");
}

}  // namespace

int run_share_prove(const ShareOptions& options) {
    const bool json = options.output.json;
    const auto location = share::parse_location(options.address);
    if (!location) return report_error(location.error(), json);
    const auto player = player_of(options);
    if (!player) return report_error(player.error(), json);
    share::ProofSettings settings;
    settings.write = options.write;
    settings.readers = options.readers;
    const auto length = length_of(options.length, settings.length);
    if (!length) return report_error(length.error(), json);
    settings.length = *length;
    const auto account = account_of(options, *location);
    if (!account) return report_error(account.error(), json);
    settings.rate_of = [&](const std::string& address) {
        return source::bit_rate_on_share(address, *account, cancel());
    };
    ProgressLine reading("reading", options.output.quiet || json);
    const auto proof = share::prove(*location, *account, settings, reading.callback(), cancel());
    if (!proof) return report_error(proof.error(), json);
    std::optional<Error> unkept;
    if (options.keep && proof->passed()) {
        if (const Status kept = share::Accounts::keep(share::accounts_file(), *location, *account); !kept)
            unkept = kept.error();
    }
    // (The film that needs most; as a player would, so with the account that is kept.)
    std::optional<site::PathComparison> paths;
    if (*player && proof->passed() && !proof->file.empty()) {
        ProgressLine playing("playing on both paths", options.output.quiet || json);
        auto both = site::try_both_paths(proof->file, (*player)->device, (*player)->link, cancel());
        if (!both) return report_error(both.error(), json);
        paths = std::move(*both);
    }
    if (json) {
        nlohmann::ordered_json result = to_json(*proof);
        if (paths)
            result["paths"] = {{"file", proof->file},
                               {"compared", site::in_words(paths->smoother)},
                               {"why", paths->why},
                               {"results", {report::to_json(paths->straight), report::to_json(paths->through)}}};
        const int ended = unkept ? report_beside(*unkept, result) : 0;
        print_json(result);
        return ended != 0 ? ended : proof->passed() ? 0 : 1;
    }
    print_proof(*proof);
    if (paths) print_paths(*paths, **player, proof->file);
    if (unkept) return report_error(*unkept);
    if (!proof->passed()) {
        print("\nVerdict: fail\n");
        return 1;
    }
    if (options.keep) print("\nThe account is kept in {}.\n", share::accounts_file().string());
    if (!proof->file.empty()) print("\nNext: wavecrest inspect '{}'\n", proof->file);
    return 0;
}

namespace {

const char* word(const share::FoundShare& one) {
    using Access = share::FoundShare::Access;
    if (base::Address(one.address).scheme() == base::Scheme::nfs)
        return !one.exported ? "by the host's address" : one.to.empty() ? "any host" : "listed hosts";
    switch (one.access) {
        case Access::guest:
            return "guest";
        case Access::account:
            return "account kept";
        case Access::needs_account:
            return "needs an account";
        case Access::unknown:
            break;
    }
    return "not known";
}

}  // namespace

int run_share_find(const ShareFindOptions& options) {
    const bool json = options.output.json;
    share::FindSettings settings;
    settings.interface = options.interface;
    settings.hosts = options.hosts;
    const auto length = length_of(options.length, settings.length);
    if (!length) return report_error(length.error(), json);
    settings.length = *length;
    auto accounts = share::Accounts::load(share::accounts_file());
    if (!accounts) return report_error(accounts.error(), json);
    settings.accounts = std::move(*accounts);
    const auto found = share::find_servers(settings, cancel());
    if (!found) return report_error(found.error(), json);
    if (json) {
        nlohmann::ordered_json servers = nlohmann::ordered_json::array();
        for (const share::FoundServer& server : found->servers) {
            nlohmann::ordered_json shares = nlohmann::ordered_json::array();
            for (const share::FoundShare& one : server.shares) {
                shares.push_back({{"name", one.name}, {"address", one.address}, {"access", word(one)}});
                if (!one.to.empty()) shares.back()["exported_to"] = one.to;
            }
            servers.push_back({{"name", server.name},
                               {"address", server.address},
                               {"found_by", server.found_by},
                               {"smb", server.smb},
                               {"nfs", server.nfs},
                               {"shares", std::move(shares)}});
            if (!server.problem.empty()) servers.back()["problem"] = server.problem;
        }
        print_json({{"servers", std::move(servers)}, {"notes", found->notes}});
        return 0;
    }
    render::Table table({"server", "protocol", "address to use", "access"});
    std::string first;
    for (const share::FoundServer& server : found->servers) {
        std::string name = server.name.empty() ? server.address : server.name;
        const auto row = [&](const std::string& protocol, const std::string& address, const std::string& access) {
            table.add({std::exchange(name, ""), protocol, address, access});
        };
        for (const share::FoundShare& one : server.shares) {
            const bool nfs = base::Address(one.address).scheme() == base::Scheme::nfs;
            row(nfs ? server.nfs : server.smb, one.address, one.to.empty() ? word(one) : "for " + one.to);
            if (first.empty()) first = one.address;
        }
        if (!server.problem.empty()) row(server.smb.empty() ? "SMB" : server.smb, server.address, server.problem);
        if (server.shares.empty() && server.problem.empty())
            row(server.smb.empty() ? server.nfs : server.smb, server.address, "shares nothing");
    }
    if (found->servers.empty()) {
        print("No file server was found.\n");
    } else {
        print("{}", Raw{table.text()});
    }
    for (const std::string& text : found->notes) note(text);
    if (!first.empty()) print("\nNext: wavecrest share prove '{}'\n", first);
    return 0;
}

}  // namespace wavecrest::cli
