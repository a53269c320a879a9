// The model text of the demo.
#pragma once

#include <string_view>

namespace juniper::demo {

std::string_view model_text();

}  // namespace juniper::demo
