// ClickHouse servers, by HTTP. The client library (libcurl) is looked for when a model needs it.
//
// What the server may send is all or nothing: it waits with its answer until the statement has ended
// (wait_end_of_query), no shard may be left out, and no limit of a profile may cut an answer short.
#include <curl/curl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <chrono>
#include <cstdlib>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/loaded_library.h"
#include "base/shown_text.h"
#include "base/sql_name.h"
#include "live/place.h"

// The header wraps these in macros that check their arguments, for those who link the library.
#undef curl_easy_setopt
#undef curl_easy_getinfo

namespace juniper::live {

namespace {

struct Curl {
  base::LoadedLibrary library{"libcurl.so.4"};
  decltype(&::curl_easy_init) init = library.function<decltype(&::curl_easy_init)>("curl_easy_init");
  decltype(&::curl_easy_cleanup) cleanup = library.function<decltype(&::curl_easy_cleanup)>("curl_easy_cleanup");
  decltype(&::curl_easy_reset) reset = library.function<decltype(&::curl_easy_reset)>("curl_easy_reset");
  decltype(&::curl_easy_setopt) setopt = library.function<decltype(&::curl_easy_setopt)>("curl_easy_setopt");
  decltype(&::curl_easy_getinfo) getinfo = library.function<decltype(&::curl_easy_getinfo)>("curl_easy_getinfo");
  decltype(&::curl_easy_perform) perform = library.function<decltype(&::curl_easy_perform)>("curl_easy_perform");
  decltype(&::curl_easy_strerror) strerror = library.function<decltype(&::curl_easy_strerror)>("curl_easy_strerror");
  decltype(&::curl_slist_append) append = library.function<decltype(&::curl_slist_append)>("curl_slist_append");
  decltype(&::curl_slist_free_all) free_all = library.function<decltype(&::curl_slist_free_all)>("curl_slist_free_all");
};

const Curl& curl() {
  static const Curl functions;
  return functions;
}

// Settings of each statement. A group of no rows is made here; the last one forbids to write.
constexpr std::string_view settings =
    "wait_end_of_query=1&join_use_nulls=1&skip_unavailable_shards=0&extremes=0&max_query_size=268435456"
    "&read_overflow_mode=throw&group_by_overflow_mode=throw&sort_overflow_mode=throw&result_overflow_mode=throw"
    "&distinct_overflow_mode=throw&set_overflow_mode=throw&join_overflow_mode=throw&timeout_overflow_mode=throw"
    "&transfer_overflow_mode=throw&empty_result_for_aggregation_by_empty_set=1&readonly=2";

std::string variable(const char* name) {
  const char* const value = std::getenv(name);
  return value != nullptr ? value : "";
}

// "http://reader@host:8123/charging" in its parts.
struct Url {
  std::string server;  // "http://host:8123"
  std::string user;
  std::string database;

  explicit Url(const std::string& text) {
    const std::size_t scheme = text.find("://");
    const std::size_t begin = scheme == std::string::npos ? 0 : scheme + 3;
    const std::size_t path = std::min(text.find('/', begin), text.size());
    const std::size_t at = text.rfind('@', path);
    const bool has_user = at != std::string::npos && at >= begin;
    user = has_user ? text.substr(begin, at - begin) : variable("CLICKHOUSE_USER");
    const std::size_t host = has_user ? at + 1 : begin;
    server = (scheme == std::string::npos ? "http://" : text.substr(0, begin)) + text.substr(host, path - host);
    database = path + 1 < text.size() ? text.substr(path + 1) : "";
  }
};

std::string in_url(const std::string& text) {
  std::string out;
  for (const char c : text) {
    const bool is_plain = (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
    out += is_plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

// A field of a line whose fields stand between tabs, without its escapes.
std::string unescaped(std::string_view field) {
  std::string out;
  for (std::size_t i = 0; i < field.size(); ++i) {
    if (field[i] != '\\' || i + 1 == field.size()) {
      out += field[i];
      continue;
    }
    const char c = field[++i];
    constexpr std::string_view letters = "tnrbf0a v";
    constexpr std::string_view meanings{"\t\n\r\b\f\0\a \v", 9};
    const std::size_t known = letters.find(c);
    out += known == std::string_view::npos ? c : meanings[known];
  }
  return out;
}

std::vector<std::string_view> parts_of(std::string_view text, char between) {
  std::vector<std::string_view> parts;
  while (true) {
    const std::size_t end = text.find(between);
    parts.push_back(text.substr(0, end));
    if (end == std::string_view::npos) return parts;
    text.remove_prefix(end + 1);
  }
}

class ClickhousePlace final : public Place {
 public:
  explicit ClickhousePlace(const std::string& place)
      : place_(place), url_(place), handle_(nullptr, nullptr), dialect_(clickhouse_dialect()) {
    if (const std::string& problem = curl().library.problem(); !problem.empty())
      fail(fmt::format("the library that speaks HTTP is not here ({})", problem), "install it: apt install libcurl4");
    handle_ = {curl().init(), curl().cleanup};
    if (handle_ == nullptr) throw std::bad_alloc();
  }

  std::string name() const override { return "clickhouse " + place_; }
  const Dialect& dialect() const override { return *dialect_; }

  std::string relation(const base::Selection& selection) override {
    if (selection.kind == base::Selection::Kind::query) return fmt::format("({}\n)", selection.text);
    const std::size_t point = selection.text.find('.');
    if (point == std::string::npos) return clickhouse_name(selection.text);
    return clickhouse_name(selection.text.substr(0, point)) + "." + clickhouse_name(selection.text.substr(point + 1));
  }

  std::map<std::string, std::string> columns(const std::string& relation) override {
    const std::string answer =
        post(fmt::format("SELECT * FROM {} LIMIT 0 FORMAT TabSeparatedWithNamesAndTypes", relation), nullptr);
    const auto lines = parts_of(answer, '\n');
    std::map<std::string, std::string> columns;
    if (lines.size() < 2) fail("the server does not say which columns it has of " + relation, "");
    const auto names = parts_of(lines[0], '\t');
    const auto types = parts_of(lines[1], '\t');
    for (std::size_t c = 0; c < names.size() && c < types.size(); ++c)
      columns.emplace(unescaped(names[c]), unescaped(types[c]));
    return columns;
  }

  engine::LiveSizes sizes(const base::Selection& selection) override {
    engine::LiveSizes sizes;
    if (selection.kind == base::Selection::Kind::query) return sizes;
    const std::size_t point = selection.text.find('.');
    const std::string database = point == std::string::npos ? url_.database : selection.text.substr(0, point);
    const std::string table = point == std::string::npos ? selection.text : selection.text.substr(point + 1);
    const Answer answer =
        ask(fmt::format("SELECT name, data_compressed_bytes FROM system.columns WHERE database = {} AND table = {}",
                        database.empty() ? "currentDatabase()" : clickhouse_text(database), clickhouse_text(table)),
            {{TypeKind::text, 0}, {TypeKind::integer, 0}}, nullptr);
    std::uint64_t all = 0;
    for (std::size_t row = 0; row < answer.rows(); ++row) {
      const auto bytes = static_cast<std::uint64_t>(answer.value(1, row).exact());
      sizes.columns.emplace(answer.value(0, row).text(), bytes);
      all += bytes;
    }
    // A Distributed table has none of its own.
    if (all == 0) {
      sizes.columns.clear();
    } else {
      sizes.bytes = all;
    }
    return sizes;
  }

  Answer ask(const std::string& statement, const std::vector<Type>& types, const engine::Watch* watch) override {
    const std::string text = post(statement + "\nFORMAT TabSeparated", watch);
    Answer answer(types);
    std::string_view rest = text;
    while (!rest.empty()) {
      const std::size_t end = rest.find('\n');
      const auto fields = parts_of(rest.substr(0, end), '\t');
      if (end == std::string_view::npos || fields.size() != types.size()) fail("the server's answer is cut off", "");
      for (const std::string_view field : fields) {
        if (field == "\\N") {
          answer.add_null();
        } else {
          answer.add_text(unescaped(field));
        }
      }
      rest.remove_prefix(end + 1);
    }
    return answer;
  }

 private:
  [[noreturn]] void fail(const std::string& what, const std::string& suggestion) const {
    throw base::Failure(base::error_at("JR-521", juniper::Place{place_, 0, 0}, what, suggestion));
  }

  struct Exchange {
    std::string answer;
    const engine::Watch* watch = nullptr;
    std::optional<Diagnostics> stopped = {};
    bool out_of_memory = false;

    static std::size_t take(char* bytes, std::size_t size, std::size_t count, void* context) {
      auto& exchange = *static_cast<Exchange*>(context);
      try {
        exchange.answer.append(bytes, size * count);
      } catch (const std::bad_alloc&) {
        exchange.out_of_memory = true;
        return 0;
      }
      return size * count;
    }
    static int look(void* context, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
      auto& exchange = *static_cast<Exchange*>(context);
      try {
        if (exchange.watch != nullptr) exchange.watch->check();
      } catch (const base::Failure& failure) {
        exchange.stopped = failure.diagnostics();
        return 1;
      }
      return 0;
    }
  };

  // The server's answer to a statement.
  std::string post(const std::string& statement, const engine::Watch* watch) {
    static std::atomic<unsigned> number = 0;
    const std::string id = fmt::format("juniper_{}_{}_{}", getpid(),
                                       std::chrono::steady_clock::now().time_since_epoch().count(), ++number);
    Exchange exchange;
    exchange.watch = watch;
    const auto [status, code] =
        exchange_of(fmt::format("query_id={}&{}{}", id,
                                url_.database.empty() ? "" : "database=" + in_url(url_.database) + "&", settings),
                    statement, exchange);
    if (exchange.out_of_memory) throw std::bad_alloc();
    if (exchange.stopped) {
      // It would go on by itself.
      Exchange ignored;
      exchange_of("", fmt::format("KILL QUERY WHERE query_id = '{}' ASYNC", id), ignored);
      throw base::Failure(*exchange.stopped);
    }
    const std::string asked = "it was asked: " + base::shortened(statement, 2000);
    if (code != CURLE_OK)
      fail(fmt::format("the server does not answer ({})", curl().strerror(code)),
           "see whether it runs, and whether this is where it listens; " + asked);
    constexpr long well = 200;
    if (status != well)
      fail(fmt::format("the server can't run this ({})", base::shortened(base::one_line(exchange.answer), 600)), asked);
    return std::move(exchange.answer);
  }

  std::pair<long, CURLcode> exchange_of(const std::string& parameters, const std::string& body, Exchange& exchange) {
    const Curl& functions = curl();
    CURL* const handle = handle_.get();
    functions.reset(handle);
    const std::string url = url_.server + "/?" + parameters;
    const std::string user = "X-ClickHouse-User: " + url_.user;
    const std::string password = "X-ClickHouse-Key: " + variable("CLICKHOUSE_PASSWORD");
    std::unique_ptr<curl_slist, decltype(&::curl_slist_free_all)> headers(nullptr, functions.free_all);
    const auto add = [&](const std::string& header) {
      curl_slist* const longer = functions.append(headers.get(), header.c_str());
      if (longer == nullptr) throw std::bad_alloc();
      headers.release();
      headers.reset(longer);
    };
    add("Expect:");
    add("Content-Type: text/plain");
    if (!url_.user.empty()) {
      add(user);
      add(password);
    }
    functions.setopt(handle, CURLOPT_URL, url.c_str());
    functions.setopt(handle, CURLOPT_HTTPHEADER, headers.get());
    functions.setopt(handle, CURLOPT_POST, 1L);
    functions.setopt(handle, CURLOPT_POSTFIELDS, body.data());
    functions.setopt(handle, CURLOPT_POSTFIELDSIZE_LARGE, static_cast<curl_off_t>(body.size()));
    functions.setopt(handle, CURLOPT_WRITEFUNCTION, &Exchange::take);
    functions.setopt(handle, CURLOPT_WRITEDATA, &exchange);
    functions.setopt(handle, CURLOPT_XFERINFOFUNCTION, &Exchange::look);
    functions.setopt(handle, CURLOPT_XFERINFODATA, &exchange);
    functions.setopt(handle, CURLOPT_NOPROGRESS, 0L);
    functions.setopt(handle, CURLOPT_NOSIGNAL, 1L);
    functions.setopt(handle, CURLOPT_CONNECTTIMEOUT, 10L);
    const CURLcode code = functions.perform(handle);
    long status = 0;
    functions.getinfo(handle, CURLINFO_RESPONSE_CODE, &status);
    return {status, code};
  }

  std::string place_;
  Url url_;
  std::unique_ptr<CURL, decltype(&::curl_easy_cleanup)> handle_;
  std::unique_ptr<Dialect> dialect_;
};

}  // namespace

std::unique_ptr<Place> open_clickhouse(const std::string& url) {
  return std::make_unique<ClickhousePlace>(url);
}

}  // namespace juniper::live
