// Control (UPnP Device Architecture 1.1, clause 3): actions of services, called by SOAP over HTTP and answered.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::upnp {

using Arguments = std::vector<std::pair<std::string, std::string>>;  // in their order
// Empty where there is none of this name.
std::string value_of(const Arguments& arguments, std::string_view name);

struct Action {
    std::string service;  // its type
    std::string name;
    Arguments arguments;
};

// What a device refuses with.
struct Fault {
    int code = 501;  // "Action Failed"; the tables are in the architecture (3.2.2) and in each service's standard
    std::string description;
};

std::string write_action(const Action& action);
// What was asked; the header field SOAPACTION may say it in quotes, or be missing. Fails (kind wanting).
Result<Action> parse_action(std::string_view body);
std::string write_answer(const Action& action, const Arguments& arguments);
std::string write_fault(const Fault& fault);
// Its out arguments, or the fault.
struct Answered {
    Arguments arguments;
    std::optional<Fault> fault;
};
Result<Answered> parse_answer(std::string_view body, const std::string& action);

// Calls an action and waits. Errors (kind wanting): no answer, no SOAP, and a fault, in words and with its number.
Result<Arguments> call(const std::string& control, const Action& action, Time limit = base::from_seconds(5));
// The words for a fault of a service: what it means, and the remedy.
Error in_words(const Fault& fault, const Action& action, const std::string& where);

}  // namespace wavecrest::upnp
