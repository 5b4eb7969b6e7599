// everyPage is one of each kind of page.
export const everyPage = [
  "/",
  "/dock",
  "/jobs/J-1042?p=3",
  "/jobs/J-1042?p=6",
  "/jobs/J-1046?p=6",
  "/jobs/J-1047/pc",
  "/jobs/J-1042/inside?p=5",
  "/jobs/J-1042/holds?p=5",
  "/jobs/J-1042/compare?p=5",
  "/jobs/J-1042/safeguard",
  "/jobs/J-1042/confirm",
  "/jobs/J-1042/hand-over",
  "/jobs/J-1045/search",
  "/shelf",
  "/trail",
];
