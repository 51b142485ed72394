// The same in Java, without a library: java Client.java
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse.BodyHandlers;
import java.util.Arrays;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

public class Client {
    static final HttpClient HTTP = HttpClient.newHttpClient();

    static String call(String method, String parameters) throws Exception {
        String text = "{\"jsonrpc\": \"2.0\", \"id\": 1, \"method\": \"" + method + "\", \"params\": " + parameters + "}";
        HttpRequest request = HttpRequest.newBuilder(URI.create(System.getenv("PENDEL_ADDRESS")))
                .header("Authorization", "Bearer " + System.getenv("PENDEL_TOKEN"))
                .POST(HttpRequest.BodyPublishers.ofString(text))
                .build();
        String answer = HTTP.send(request, BodyHandlers.ofString()).body();
        if (!answer.contains("\"result\":")) throw new IllegalStateException(answer);
        return answer;
    }

    static String found(String pattern, String text) {
        Matcher match = Pattern.compile(pattern).matcher(text);
        if (!match.find()) throw new IllegalStateException(text);
        return match.group(1);
    }

    public static void main(String[] none) throws Exception {
        call("drive.set", "{\"name\": \"K_p\", \"value\": \"30 A*s/m\"}");
        String run = found("\"run\":\"([^\"]*)\"", call("drive.run", "{\"until\": \"50 ms\"}"));
        String trace = call("run.trace", "{\"run\": \"" + run + "\", \"signal\": \"door_motor.current\"}");
        String[] values = found("\"y\":\\[([^\\]]*)\\]", trace).split(",");
        System.out.println(Arrays.stream(values).mapToDouble(Double::parseDouble).max().getAsDouble());
    }
}
