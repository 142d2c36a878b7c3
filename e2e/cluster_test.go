//go:build cluster

package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestClusterTools: the brokers' own console tools make a topic of ours, write to it, read it with a group, and tell how far the group is.
func TestClusterTools(t *testing.T) {
	jars, err := filepath.Glob(filepath.Join(os.Getenv("FIUME_BROKER_JARS"), "*.jar"))
	if err != nil || len(jars) == 0 {
		t.Fatalf("FIUME_BROKER_JARS says where the broker's jars are; make test-cluster sets it: %v", err)
	}
	p, at := serveBrokers(t, t.TempDir(), "127.0.0.1:0", "127.0.0.1:0")
	tool := func(in, class string, args ...string) string {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		cmd := exec.CommandContext(ctx, "java", append([]string{"-Xmx128m", "-cp", strings.Join(jars, ":"), class, "--bootstrap-server", at}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s: %v\n%s%s", class, err, out, errs.String())
		}
		return string(out)
	}
	const topics, groups = "org.apache.kafka.tools.TopicCommand", "org.apache.kafka.tools.consumer.group.ConsumerGroupCommand"
	if out := tool("", topics, "--create", "--topic", "words", "--partitions", "2", "--config", "retention.ms=60000"); !strings.Contains(out, "Created topic words") {
		t.Error(out)
	}
	if out := tool("", topics, "--describe", "--topic", "words"); !strings.Contains(out, "PartitionCount: 2") || !strings.Contains(out, "retention.ms=60000") {
		t.Error(out)
	}
	var lines, want []string
	for i := range 500 {
		lines = append(lines, fmt.Sprintf("k%d:word %d", i%7, i))
		want = append(want, fmt.Sprintf("word %d", i))
	}
	tool(strings.Join(lines, "\n")+"\n", "org.apache.kafka.tools.ConsoleProducer", "--topic", "words", "--property", "parse.key=true", "--property", "key.separator=:", "--compression-codec", "zstd")
	got := strings.Split(strings.TrimSpace(tool("", "org.apache.kafka.tools.consumer.ConsoleConsumer", "--topic", "words", "--group", "readers", "--from-beginning", "--max-messages", "500")), "\n")
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("%d lines: %.200v", len(got), got)
	}
	if out := tool("", groups, "--describe", "--group", "readers"); strings.Count(out, "words") != 2 {
		t.Error(out)
	}
	if out := tool("", groups, "--list"); strings.TrimSpace(out) != "readers" {
		t.Error(out)
	}
	if info, err := p.Topics(t.Context()); err != nil || len(info) != 1 || info[0].Messages != 500 {
		t.Errorf("%+v %v", info, err)
	}
	p.stop()
}
