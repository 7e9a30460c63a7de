# A suite in a shell: TAP on the standard output, the browser by curl.
ask() { # METHOD PATH [BODY]
  curl --silent --noproxy '*' --max-time 60 -X "$1" -H 'content-type: application/json' ${3:+--data "$3"} "$PANE_ENDPOINT$2"
}
echo "TAP version 14"
echo "1..2"
session=$(ask POST /session '{"capabilities":{"alwaysMatch":{"pane:options":{"test":"the tide table opens"}}}}' |
  sed -n 's/.*"sessionId":"\([^"]*\)".*/\1/p')
ask POST "/session/$session/url" "{\"url\":\"$PANE_BASE/tides\"}" >/dev/null
case $(ask GET "/session/$session/title") in
  *"Tide table"*) echo "ok 1 - the tide table opens" ;;
  *) echo "not ok 1 - the tide table opens" ;;
esac
ask DELETE "/session/$session" >/dev/null
if curl --silent --fail "$PANE_BASE/tides" >/dev/null; then echo "ok 2 - the site answers without a browser"
else echo "not ok 2 - the site answers without a browser"; fi
