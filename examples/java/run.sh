# Compiles one test class against Debian's JUnit 5 and runs it: FILE RESULTS.
set -e
path=$(find /usr/share/java -name 'junit-*.jar' -o -name 'opentest4j*.jar' -o -name 'apiguardian-api*.jar' -o -name 'picocli*.jar' \
  -o -name 'univocity-parsers*.jar' | grep -v standalone | tr '\n' ':')
out=$(mktemp -d)
javac -cp "$path" -d "$out/classes" "$1"
java -cp "$out/classes:$path" org.junit.platform.console.ConsoleLauncher --scan-classpath "$out/classes" --reports-dir "$out/reports" \
  --details=tree --disable-banner || status=$?
cp "$out/reports/TEST-junit-jupiter.xml" "$2"
exit ${status:-0}
