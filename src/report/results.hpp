// The results of commands as JSON: what other programs rely on, what --out keeps, and what the handover page is made
// of.
#pragma once

#include <string>
#include <vector>

#include "convert/convert.hpp"
#include "convert/decide.hpp"
#include "convert/remux.hpp"
#include "convert/weigh.hpp"
#include "job/shelf.hpp"
#include "measure/deep.hpp"
#include "measure/transport.hpp"
#include "report/media_json.hpp"
#include "site/check.hpp"
#include "site/paths.hpp"
#include "stream/stream_server.hpp"
#include "trial/check_page.hpp"
#include "verify/verify.hpp"

namespace wavecrest::report {

// (Neither holds a stream's key.)
Json to_json(const verify::Verification& verification);
Json to_json(const site::BestDelivery& best);

Json to_json(const std::vector<convert::TrackPlan>& tracks);
Json to_json(const convert::Plan& plan);
Json to_json(const convert::Estimate& cost);
Json to_json(const convert::Weighing& weighing);
Json to_json(const job::Record& record);
Json to_json(const job::Price& price);
// What was decided for devices; `paths` of the files in their order, empty for those that are fine as they are.
Json to_json(const convert::FileDecision& file, const std::string& path);
// One of the files that were made, by its number.
Json to_json(const convert::Plan& plan, const convert::Outcome& outcome, std::size_t file, const std::string& source);
Json to_json(const convert::RemuxPlan& plan);
Json to_json(const convert::RemuxPlan& plan, const convert::Outcome& outcome, const std::string& source);
Json to_json(const measure::PictureQuality& quality);

Json to_json(const measure::DeepReport& deep);
Json to_json(const measure::TransportReport& report);

// What a device showed on the check page, its description in `file`, and what it was taken for before.
Json to_json(const trial::FinishedTest& done, const device::Device& measured, const device::Device& before,
             const std::string& file);

// What a server did until it was stopped.
Json to_json(const stream::StreamServer& server, const stream::StreamServerStatus& status);

Json to_json(const site::Site& site, const std::vector<site::Finding>& findings);
// To enter on each device.
Json addresses_to_json(const site::Site& site);

}  // namespace wavecrest::report
