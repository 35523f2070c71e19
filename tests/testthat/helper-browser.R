# A page in headless Chromium.

chromium <- function(...) {
  binary <- Sys.which(c("chromium", "chromium-browser", "google-chrome"))
  binary <- binary[nzchar(binary)][1]
  system2(
    binary,
    c(
      "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
      "--disable-background-networking", "--disable-component-update", "--disable-sync",
      paste0("--user-data-dir=", tempfile("profile")), "--virtual-time-budget=2000", ...
    ),
    stdout = TRUE,
    stderr = FALSE
  )
}

# The page with one script more, which its policy lets run beside its own.
page_with <- function(page, script) {
  allowed <- sub(
    "script-src ", paste0("script-src ", script_print(script), " "), page, fixed = TRUE
  )
  sub("</body>", paste0("<script>", script, "</script></body>"), allowed, fixed = TRUE)
}
