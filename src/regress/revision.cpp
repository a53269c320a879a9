#include "regress/revision.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>

#include "base/diagnostics.h"
#include "language/parser.h"

namespace juniper::regress {

namespace {

namespace fs = std::filesystem;

tl::unexpected<Diagnostics> failed(const std::string& message) {
  return tl::unexpected(base::error("JR-908", message, "name a revision of the repository that holds the model text"));
}

// What git prints for a file of its folder at a revision.
Result<std::string> text_at(const fs::path& file, const std::string& revision) {
  const std::string folder = file.parent_path().empty() ? "." : file.parent_path().string();
  const std::string object = fmt::format("{}:./{}", revision, file.filename().string());
  int ends[2];
  if (::pipe(ends) != 0) return failed("cannot run git");
  const pid_t child = ::fork();
  if (child == 0) {
    ::dup2(ends[1], STDOUT_FILENO);
    ::close(ends[0]);
    ::close(ends[1]);
    const int nowhere = ::open("/dev/null", O_WRONLY);
    if (nowhere >= 0) ::dup2(nowhere, STDERR_FILENO);
    ::execlp("git", "git", "-C", folder.c_str(), "show", "--end-of-options", object.c_str(),
             static_cast<char*>(nullptr));
    ::_exit(127);
  }
  ::close(ends[1]);
  std::string text;
  char buffer[1 << 16];
  for (ssize_t count = 0; (count = ::read(ends[0], buffer, sizeof(buffer))) > 0;)
    text.append(buffer, static_cast<std::size_t>(count));
  ::close(ends[0]);
  int status = 0;
  if (child < 0 || ::waitpid(child, &status, 0) != child || status != 0)
    return failed(fmt::format("git does not give {} at '{}'", file.string(), revision));
  return text;
}

}  // namespace

Result<Model> model_at_revision(const std::string& path, const std::string& revision, const ReadOptions& options) {
  if (revision.empty() || revision.front() == '-') return failed(fmt::format("'{}' is no revision", revision));
  std::vector<ModelText> texts;
  std::vector<std::string> names{path};
  for (std::size_t i = 0; i < names.size(); ++i) {
    auto text = text_at(names[i], revision);
    if (!text) return tl::unexpected(text.error());
    language::Sources sources;
    Diagnostics problems;  // told by Model::parse
    const std::uint32_t file = sources.add({names[i], *text});
    for (const auto& include : language::parse_model(sources, file, problems).includes) {
      const std::string name = (fs::path(names[i]).parent_path() / include.file).lexically_normal().string();
      if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    }
    texts.push_back({names[i], std::move(*text)});
  }
  return Model::parse(texts, options);
}

}  // namespace juniper::regress
