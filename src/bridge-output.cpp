// Standard output, written so that a failure is seen: R's own writing to it reports none.

#include <Rcpp.h>

#include <cerrno>
#include <cstring>

#ifdef _WIN32
#include <io.h>
#else
#include <unistd.h>
#endif

// -> "" or what went wrong
// [[Rcpp::export]]
std::string write_standard_output(Rcpp::RawVector bytes) {
  const unsigned char* from = bytes.begin();
  R_xlen_t left = bytes.size();
  while (left > 0) {
    const unsigned part = left > 1048576 ? 1048576u : static_cast<unsigned>(left);
    const auto written = write(1, from, part);
    if (written < 0) {
      if (errno == EINTR) continue;
      return std::strerror(errno);
    }
    from += written;
    left -= written;
  }
  return "";
}
