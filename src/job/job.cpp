#include "job/job.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "convert/decide.hpp"
#include "source/added_text.hpp"

namespace wavecrest::job {
namespace {

using Json = nlohmann::ordered_json;

class Digest {
  public:
    Digest() : context_(EVP_MD_CTX_new()) { EVP_DigestInit_ex(context_, EVP_sha256(), nullptr); }
    ~Digest() { EVP_MD_CTX_free(context_); }
    Digest(const Digest&) = delete;
    Digest& operator=(const Digest&) = delete;
    void add(ByteSpan bytes) { EVP_DigestUpdate(context_, bytes.data(), bytes.size()); }
    void add(const std::string& text) { add(base::as_bytes(text)); }
    std::string hex() {
        std::array<unsigned char, EVP_MAX_MD_SIZE> out{};
        unsigned size = 0;
        EVP_DigestFinal_ex(context_, out.data(), &size);
        std::string text;
        for (unsigned i = 0; i < size; ++i) text += fmt::format("{:02x}", out[i]);
        return text;
    }

  private:
    EVP_MD_CTX* context_;
};

// A disc's tables are small; its streams are known by their sizes.
constexpr std::uint64_t kWholeFile = 4 << 20;
constexpr std::size_t kEnd = 1 << 20;
constexpr std::uint64_t kMostRead = 64 << 20;  // of a folder; the rest by its sizes

Status add_file(const base::Path& path, Digest& digest) {
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path));
    const std::uint64_t size = file.size();
    digest.add(fmt::format("{}\n", size));
    ByteVector bytes(static_cast<std::size_t>(std::min<std::uint64_t>(size, size <= kWholeFile ? kWholeFile : kEnd)));
    WAVECREST_TRY_ASSIGN(got, file.read_at(0, bytes));
    digest.add(ByteSpan(bytes).first(got));
    if (size <= kWholeFile) return {};
    WAVECREST_TRY_ASSIGN(end, file.read_at(size - kEnd, bytes));
    digest.add(ByteSpan(bytes).first(end));
    return {};
}

}  // namespace

Json to_json(const Job& job) {
    const convert::Selection& s = job.selection;
    Json json = {{"source", job.source},
                 {"pick", s.pick},
                 {"into", s.into.string()},
                 {"name", s.name},
                 {"video", s.video},
                 {"audio", s.audio},
                 {"subtitles", s.subtitles},
                 {"angle", s.angle},
                 {"season", s.season},
                 {"first_episode", s.first_episode},
                 {"accept_losses", s.accept_losses},
                 {"profiles", job.profiles},
                 {"one_file", job.one_file},
                 {"quality", job.quality},
                 {"subtitle_file", job.subtitle_file},
                 {"captions", job.captions},
                 {"retries", job.retries}};
    json["devices"] = Json::array();
    for (const JobDevice& one : job.devices)
        json["devices"].push_back({{"name", one.name}, {"texts", one.texts}, {"highest_bps", one.highest_bps}});
    return json;
}

Result<Job> from_json(const std::string& text) {
    try {
        const Json json = Json::parse(text);
        Job job;
        convert::Selection& s = job.selection;
        json.at("source").get_to(job.source);
        json.at("pick").get_to(s.pick);
        s.into = json.at("into").get<std::string>();
        json.at("name").get_to(s.name);
        json.at("video").get_to(s.video);
        json.at("audio").get_to(s.audio);
        json.at("subtitles").get_to(s.subtitles);
        json.at("angle").get_to(s.angle);
        json.at("season").get_to(s.season);
        json.at("first_episode").get_to(s.first_episode);
        json.at("accept_losses").get_to(s.accept_losses);
        json.at("profiles").get_to(job.profiles);
        json.at("one_file").get_to(job.one_file);
        json.at("quality").get_to(job.quality);
        json.at("subtitle_file").get_to(job.subtitle_file);
        json.at("captions").get_to(job.captions);
        json.at("retries").get_to(job.retries);
        for (const Json& one : json.at("devices"))
            job.devices.push_back({one.at("name"), one.at("texts"), one.at("highest_bps")});
        return job;
    } catch (const Json::exception& error) {
        return fail(ErrorKind::input, "this is no job of this program", error.what(),
                    "convert it again; the list of jobs may be of a newer version");
    }
}

Result<std::vector<device::Device>> devices_of(const Job& job) {
    std::vector<device::Device> devices;
    for (const JobDevice& one : job.devices) {
        if (one.texts.empty())
            return fail(ErrorKind::input, "a device without a description", one.name, "convert it again");
        WAVECREST_TRY_ASSIGN(device, device::parse(one.texts.front(), one.name));
        for (std::size_t i = 1; i < one.texts.size(); ++i) {
            WAVECREST_TRY_ASSIGN(receiver, device::parse(one.texts[i], one.name));
            device = device::with_receiver(std::move(device), receiver);
        }
        device.name = one.name;
        if (one.highest_bps > 0)
            device.highest_bps =
                device.highest_bps > 0 ? std::min(device.highest_bps, one.highest_bps) : one.highest_bps;
        devices.push_back(std::move(device));
    }
    return devices;
}

void add_up(Done& done, const convert::Plan& plan, const convert::Outcome& outcome, bool for_devices) {
    for (std::size_t i = 0; i < outcome.files.size(); ++i)
        done.files.push_back(
            {outcome.files[i].path.string(), outcome.files[i].bytes,
             for_devices ? std::vector<std::string>{plan.outputs[i].profile} : std::vector<std::string>{}});
    done.duration += outcome.duration;
    done.elapsed += outcome.elapsed;
    done.source_bytes += outcome.source_bytes;
    done.lost += outcome.loss.total;
    done.warnings.insert(done.warnings.end(), plan.warnings.begin(), plan.warnings.end());
    for (const Problem& problem : outcome.problems)
        done.problems.push_back(fmt::format("{} (from {} to {})", problem.what, base::format_clock(problem.from),
                                            base::format_clock(problem.to)));
}

Result<convert::Request> request_of(const Job& job) {
    convert::Request request;
    static_cast<convert::Selection&>(request) = job.selection;
    if (request.audio.empty()) request.audio = "first";
    if (request.subtitles.empty()) request.subtitles = "forced";
    request.quality = job.quality;
    for (const std::string& text : job.profiles) {
        WAVECREST_TRY_ASSIGN(profile, profile::parse(text, "profile"));
        request.profiles.push_back(std::move(profile));
    }
    if (request.profiles.empty() && !job.devices.empty()) request.profiles.push_back(convert::usual_for_devices());
    if (request.profiles.empty())
        return fail(ErrorKind::input, "the job has neither a profile nor devices", job.source, "convert it again");
    return request;
}

Result<Done> run(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(request, request_of(job));
    WAVECREST_TRY_ASSIGN(input, source::open_input(job.source, {job.retries}));
    if (job.captions) {
        WAVECREST_TRY_ASSIGN(with, source::with_captions(std::move(input), {}, cancel));
        input = std::move(with);
    }
    if (!job.subtitle_file.empty()) {
        WAVECREST_TRY_ASSIGN(with, source::with_subtitle_file(std::move(input), job.subtitle_file));
        input = std::move(with);
    }
    std::vector<convert::Plan> plans;
    std::vector<std::vector<std::string>> devices_of_plan;
    Done done;
    if (job.devices.empty()) {
        WAVECREST_TRY_ASSIGN(made, convert::make_plans(*input, request));
        plans = std::move(made);
    } else {
        WAVECREST_TRY_ASSIGN(devices, devices_of(job));
        WAVECREST_TRY_ASSIGN(titles, convert::plan_for_devices(*input, request, devices, job.one_file));
        for (convert::DevicePlan& title : titles) {
            for (const convert::FileDecision& file : title.files)
                done.warnings.insert(done.warnings.end(), file.warnings.begin(), file.warnings.end());
            if (title.plan) plans.push_back(std::move(*title.plan));
        }
    }
    Time total{}, before{};
    for (const convert::Plan& plan : plans) total += plan.duration;
    for (const convert::Plan& plan : plans) {
        const auto part = [&](const ProgressState& state) {
            if (progress) progress({before + state.done, total});
        };
        WAVECREST_TRY_ASSIGN(outcome, convert::run(*input, plan, part, cancel));
        before += plan.duration;
        add_up(done, plan, outcome, !job.devices.empty());
    }
    return done;
}

bool may_pass(const Job& job, const Error& error) {
    std::error_code code;
    if (error.kind == ErrorKind::interrupted) return true;
    // Where a target is there already, the error's place is that file.
    if (error.kind == ErrorKind::machine) return !std::filesystem::is_regular_file(error.where, code);
    return error.kind == ErrorKind::input && job.source.find("://") == std::string::npos &&
           !std::filesystem::exists(job.source, code);
}

Result<std::string> digest_of(const std::string& source) {
    std::error_code error;
    Digest digest;
    const base::Path path = source;
    if (!std::filesystem::is_directory(path, error)) {
        if (!std::filesystem::is_regular_file(path, error)) return std::string();
        WAVECREST_TRY(add_file(path, digest));
        return digest.hex();
    }
    // In the order of their names, which is not that of the folder.
    std::vector<base::Path> files;
    constexpr std::size_t kMost = 20'000;
    for (auto i = std::filesystem::recursive_directory_iterator(
             path, std::filesystem::directory_options::skip_permission_denied, error);
         !error && i != std::filesystem::recursive_directory_iterator() && files.size() < kMost; i.increment(error)) {
        std::error_code ignored;
        if (i->is_regular_file(ignored)) files.push_back(i->path());
    }
    if (error)
        return fail(ErrorKind::machine, "the folder can't be read: " + base::system_reason(error.value()), source,
                    "check the drive or share");
    std::sort(files.begin(), files.end());
    std::uint64_t read = 0;
    for (const base::Path& file : files) {
        digest.add(file.lexically_relative(path).generic_string() + "\n");
        const std::uintmax_t size = std::filesystem::file_size(file, error);
        if (size <= kWholeFile && (read += size) <= kMostRead) {
            WAVECREST_TRY(add_file(file, digest));
        } else {
            digest.add(fmt::format("{}\n", size));
        }
    }
    return digest.hex();
}

}  // namespace wavecrest::job
