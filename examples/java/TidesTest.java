import static org.junit.jupiter.api.Assertions.assertTrue;

import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.regex.Pattern;
import org.junit.jupiter.api.Disabled;
import org.junit.jupiter.api.Test;

class TidesTest {
  static final String ENDPOINT = System.getenv("PANE_ENDPOINT");
  static final String BASE = System.getenv("PANE_BASE");
  static final HttpClient client = HttpClient.newHttpClient();

  static String call(String method, String path, String body) throws Exception {
    var request = HttpRequest.newBuilder(URI.create(ENDPOINT + path))
        .method(method, HttpRequest.BodyPublishers.ofString(body)).build();
    return client.send(request, HttpResponse.BodyHandlers.ofString()).body();
  }

  @Test
  void theTideTableOpens() throws Exception {
    var answer = call("POST", "/session",
        "{\"capabilities\":{\"alwaysMatch\":{\"pane:options\":{\"test\":\"theTideTableOpens()\"}}}}");
    var id = Pattern.compile("\"sessionId\":\"([^\"]+)\"").matcher(answer);
    assertTrue(id.find(), answer);
    var at = "/session/" + id.group(1);
    try {
      call("POST", at + "/url", "{\"url\":\"" + BASE + "/tides\"}");
      assertTrue(call("GET", at + "/title", "").contains("Tide table"));
    } finally {
      call("DELETE", at, "");
    }
  }

  @Test
  @Disabled("no gauge yet")
  void theGaugeIsShown() {}
}
