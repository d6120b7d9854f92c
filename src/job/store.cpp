#include "job/store.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "base/sqlite.hpp"

namespace wavecrest::job {
namespace {

using Json = nlohmann::ordered_json;

constexpr std::array<std::string_view, 5> kStates = {"waiting", "running", "done", "failed", "stopped"};

// Increased with every change of the tables.
constexpr int kVersion = 1;
constexpr const char* kTables = R"(
create table if not exists jobs (
    id integer primary key autoincrement,
    state text not null,
    job text not null,
    digest text not null default '',
    added integer not null,
    started integer not null default 0,
    ended integer not null default 0,
    next_try integer not null default 0,
    tries integer not null default 0,
    progress real not null default 0,
    stop_wanted integer not null default 0,
    worker text not null default '',
    error text not null default '',
    result text not null default ''
);
create index if not exists jobs_by_state on jobs (state);
)";

Error sql_error(sqlite3* database, const std::string& file) {
    const int code = sqlite3_extended_errcode(database);
    const bool full = (code & 0xFF) == SQLITE_FULL;
    return {ErrorKind::machine, fmt::format("the list of jobs can't be used: {}", sqlite3_errmsg(database)), file,
            full ? "free some space on its disk"
            : (code & 0xFF) == SQLITE_CORRUPT || (code & 0xFF) == SQLITE_NOTADB
                ? "it is damaged: move it away; a new one is begun"
                : "make it writable for this user, or set XDG_STATE_HOME to a folder that is"};
}

// The first line of a file of the kernel's (whose sizes are told as 0).
std::string line_of(const std::string& file) {
    std::ifstream in(file);
    std::string line;
    std::getline(in, line);
    return line;
}

// A running program, told apart from another that has its number later: by when it began and since when the machine is
// on (proc(5): starttime).
std::string identity_of(const std::string& pid) {
    const std::string stat = line_of("/proc/" + pid + "/stat");
    if (stat.empty()) return "";
    // Behind the name in parentheses, which may hold anything: fields 3 and on; the start is field 22.
    std::size_t at = stat.rfind(')');
    for (int field = 2; field < 22 && at != std::string::npos; ++field) at = stat.find(' ', at + 1);
    if (at == std::string::npos) return "";
    const std::string start = stat.substr(at + 1, stat.find(' ', at + 1) - at - 1);
    return fmt::format("{} {} {}", pid, start, line_of("/proc/sys/kernel/random/boot_id"));
}
bool is_alive(const std::string& worker) {
    return !worker.empty() && identity_of(worker.substr(0, worker.find(' '))) == worker;
}

Json to_json(const Error& error) {
    return {
        {"kind", static_cast<int>(error.kind)}, {"what", error.what}, {"where", error.where}, {"remedy", error.remedy}};
}
std::optional<Error> error_from(const std::string& text) {
    if (text.empty()) return std::nullopt;
    const Json json = Json::parse(text, nullptr, false);
    if (!json.is_object()) return std::nullopt;
    const int kind = std::clamp(json.value("kind", 1), 0, static_cast<int>(ErrorKind::interrupted));
    return Error{
        static_cast<ErrorKind>(kind), json.value("what", ""), json.value("where", ""), json.value("remedy", ""), {}};
}

Json to_json(const Done& done) {
    Json json = {{"duration_s", base::to_seconds(done.duration)},
                 {"elapsed_s", base::to_seconds(done.elapsed)},
                 {"source_bytes", done.source_bytes},
                 {"lost_s", base::to_seconds(done.lost)},
                 {"problems", done.problems},
                 {"warnings", done.warnings}};
    json["files"] = Json::array();
    for (const Done::File& file : done.files)
        json["files"].push_back({{"path", file.path}, {"bytes", file.bytes}, {"devices", file.devices}});
    return json;
}

using base::Statement;

constexpr const char* kColumns =
    "select id, state, job, digest, added, started, ended, next_try, tries, progress, stop_wanted, error, result "
    "from jobs ";

class SqliteStore : public Store {
  public:
    SqliteStore(sqlite3* database, std::string file) : database_(database), file_(std::move(file)) {}
    ~SqliteStore() override { sqlite3_close(database_); }

    Status prepare() {
        sqlite3_busy_timeout(database_, 10'000);
        WAVECREST_TRY(execute("pragma synchronous = full"));
        WAVECREST_TRY(execute("begin immediate"));
        std::int64_t version = 0;
        {
            Statement asked(database_, "pragma user_version");
            if (asked.step() == SQLITE_ROW) version = asked.number(0);
        }
        if (version > kVersion) {
            (void)execute("rollback");
            return fail(ErrorKind::machine, "the list of jobs is of a newer version of this program", file_,
                        "use that version, or move the file away");
        }
        WAVECREST_TRY(execute(kTables));
        WAVECREST_TRY(execute(fmt::format("pragma user_version = {}", kVersion).c_str()));
        return execute("commit");
    }

    Result<std::int64_t> add(const Job& job, const std::string& digest, WallTime now) override {
        Statement statement(database_, "insert into jobs (state, job, digest, added) values ('waiting', ?, ?, ?)");
        WAVECREST_TRY(done(statement.bind(job::to_json(job).dump()).bind(digest).bind(now)));
        return sqlite3_last_insert_rowid(database_);
    }
    Result<std::vector<Record>> list() override {
        WAVECREST_TRY(free_dead());
        Statement statement(database_, fmt::format("{} order by id", kColumns));
        std::vector<Record> records;
        int step = 0;
        while ((step = statement.step()) == SQLITE_ROW) {
            // What can't be read is shown by its number, not hidden.
            records.push_back(read(statement));
        }
        if (step != SQLITE_DONE) return fail(sql_error(database_, file_));
        return records;
    }
    Result<Record> get(std::int64_t id) override {
        WAVECREST_TRY(free_dead());
        return find(id);
    }
    Result<std::optional<Record>> claim(WallTime now, std::optional<std::int64_t> id) override {
        WAVECREST_TRY(free_dead());
        WAVECREST_TRY(execute("begin immediate"));
        auto claimed = claim_locked(now, id);
        if (!claimed) {
            (void)execute("rollback");
            return claimed;
        }
        WAVECREST_TRY(execute("commit"));
        return claimed;
    }
    Result<bool> report(std::int64_t id, double progress) override {
        {
            Statement statement(database_, "update jobs set progress = ? where id = ?");
            WAVECREST_TRY(done(statement.bind(progress).bind(id)));
        }
        Statement asked(database_, "select stop_wanted from jobs where id = ?");
        if (asked.bind(id).step() != SQLITE_ROW) return fail(sql_error(database_, file_));
        return asked.number(0) != 0;
    }
    Status finish(std::int64_t id, const Done& made, WallTime now) override {
        Statement statement(database_,
                            "update jobs set state = 'done', ended = ?, progress = 1, worker = '', error = '', "
                            "result = ? where id = ?");
        return done(statement.bind(now).bind(to_json(made).dump()).bind(id));
    }
    Status give_up(std::int64_t id, const Error& error, bool passes, WallTime now) override {
        WAVECREST_TRY_ASSIGN(record, find(id));
        const std::int64_t pause = std::int64_t{60} << std::clamp(record.tries - 1, 0, 6);
        Statement statement(database_,
                            "update jobs set state = ?, ended = ?, next_try = ?, worker = '', error = ? where id = ?");
        return done(statement.bind(std::string(passes ? "waiting" : "failed"))
                        .bind(now)
                        .bind(passes ? now + std::min<std::int64_t>(pause, 3600) : 0)
                        .bind(to_json(error).dump())
                        .bind(id));
    }
    Status put_back(std::int64_t id) override {
        Statement statement(database_,
                            "update jobs set state = 'waiting', worker = '', progress = 0, next_try = 0 where id = ?");
        return done(statement.bind(id));
    }
    Status stopped(std::int64_t id, WallTime now) override {
        Statement statement(database_, "update jobs set state = 'stopped', worker = '', ended = ? where id = ?");
        return done(statement.bind(now).bind(id));
    }
    Status retry(std::int64_t id) override {
        WAVECREST_TRY(free_dead());
        WAVECREST_TRY_ASSIGN(record, find(id));
        if (record.state == State::running || record.state == State::done)
            return fail(ErrorKind::usage,
                        fmt::format("job {} {}", id, record.state == State::done ? "is done" : "is running"), file_,
                        record.state == State::done ? "convert it again to another place" : "stop it first: job stop");
        Statement statement(
            database_,
            "update jobs set state = 'waiting', next_try = 0, stop_wanted = 0, error = '' where id = ? and state <> "
            "'running'");
        return done(statement.bind(id));
    }
    Status stop(std::int64_t id, WallTime now) override {
        WAVECREST_TRY(free_dead());
        WAVECREST_TRY_ASSIGN(record, find(id));
        if (record.state == State::done || record.state == State::failed)
            return fail(ErrorKind::usage,
                        fmt::format("job {} {}", id, record.state == State::done ? "is done" : "has failed"), file_,
                        "there is nothing to stop");
        Statement waiting(database_, "update jobs set state = 'stopped', ended = ? where id = ? and state = 'waiting'");
        WAVECREST_TRY(done(waiting.bind(now).bind(id)));
        Statement running(database_, "update jobs set stop_wanted = 1 where id = ? and state = 'running'");
        return done(running.bind(id));
    }

  private:
    Status execute(const char* text) {
        if (sqlite3_exec(database_, text, nullptr, nullptr, nullptr) == SQLITE_OK) return {};
        return fail(sql_error(database_, file_));
    }
    Status done(Statement& statement) {
        if (statement.step() == SQLITE_DONE) return {};
        return fail(sql_error(database_, file_));
    }
    static Record read(Statement& row) {
        Record record;
        record.id = row.number(0);
        record.state = state_from_name(row.text(1)).value_or(State::failed);
        if (auto job = from_json(row.text(2))) {
            record.job = std::move(*job);
        } else {
            record.error = job.error();
        }
        record.digest = row.text(3);
        record.added = row.number(4);
        record.started = row.number(5);
        record.ended = row.number(6);
        record.next_try = row.number(7);
        record.tries = static_cast<int>(row.number(8));
        record.progress = row.decimal(9);
        record.stop_wanted = row.number(10) != 0;
        if (!record.error) record.error = error_from(row.text(11));
        record.result = row.text(12);
        return record;
    }
    Result<Record> find(std::int64_t id) {
        Statement statement(database_, fmt::format("{} where id = ?", kColumns));
        const int step = statement.bind(id).step();
        if (step == SQLITE_ROW) return read(statement);
        if (step != SQLITE_DONE) return fail(sql_error(database_, file_));
        return fail(ErrorKind::usage, fmt::format("there is no job {}", id), file_, "wavecrest job list names them");
    }
    Result<std::optional<Record>> claim_locked(WallTime now, std::optional<std::int64_t> id) {
        std::int64_t found = 0;
        {
            Statement statement(
                database_, id ? "select id from jobs where state = 'waiting' and id = ?"
                              : "select id from jobs where state = 'waiting' and next_try <= ? order by id limit 1");
            const int step = statement.bind(id ? *id : now).step();
            if (step == SQLITE_DONE) return std::optional<Record>{};
            if (step != SQLITE_ROW) return fail(sql_error(database_, file_));
            found = statement.number(0);
        }
        {
            Statement statement(database_,
                                "update jobs set state = 'running', started = ?, tries = tries + 1, progress = 0, "
                                "stop_wanted = 0, worker = ? where id = ?");
            WAVECREST_TRY(done(statement.bind(now).bind(identity_of(std::to_string(::getpid()))).bind(found)));
        }
        WAVECREST_TRY_ASSIGN(record, find(found));
        return std::optional(std::move(record));
    }
    // Those whose program is gone wait again.
    Status free_dead() {
        std::vector<std::pair<std::int64_t, std::string>> dead;
        {
            Statement statement(database_, "select id, worker from jobs where state = 'running'");
            while (statement.step() == SQLITE_ROW) {
                if (!is_alive(statement.text(1))) dead.emplace_back(statement.number(0), statement.text(1));
            }
        }
        for (const auto& [id, worker] : dead) {
            // (By whom it was: another program may have taken it up meanwhile.)
            Statement statement(database_,
                                "update jobs set state = 'waiting', worker = '', progress = 0 where id = ? and "
                                "worker = ? and state = 'running'");
            WAVECREST_TRY(done(statement.bind(id).bind(worker)));
        }
        return {};
    }

    sqlite3* database_;
    const std::string file_;
};

}  // namespace

std::string_view short_name(State state) {
    return kStates[static_cast<std::size_t>(state)];
}
std::optional<State> state_from_name(std::string_view name) {
    const auto found = std::find(kStates.begin(), kStates.end(), name);
    if (found == kStates.end()) return std::nullopt;
    return static_cast<State>(found - kStates.begin());
}

base::Path Store::usual_place() {
    return base::state_folder() / "jobs.db";
}

Result<std::unique_ptr<Store>> Store::open(const base::Path& file) {
    std::error_code error;
    std::filesystem::create_directories(file.parent_path(), error);
    sqlite3* database = nullptr;
    const int opened = sqlite3_open_v2(file.c_str(), &database,
                                       SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_FULLMUTEX, nullptr);
    auto store = std::make_unique<SqliteStore>(database, file.string());
    if (opened != SQLITE_OK) return fail(sql_error(database, file.string()));
    WAVECREST_TRY(store->prepare());
    return std::unique_ptr<Store>(std::move(store));
}

}  // namespace wavecrest::job
