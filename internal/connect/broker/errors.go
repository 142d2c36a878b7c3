package broker

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"

	"fiume/internal/core/plan"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

// What brokers say, in words that name the endpoint and the way out.

// wrapped is an error with words of its own.
type wrapped struct {
	text string
	err  error
}

func (w *wrapped) Error() string { return w.text }
func (w *wrapped) Unwrap() error { return w.err }

// said puts an error of the client into words.
func said(e *plan.Endpoint, err error) error {
	if err == nil {
		return nil
	}
	var own *wrapped
	if errors.As(err, &own) {
		return err
	}
	a, _ := parseAddress(e.Address)
	text := ""
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		text = "the certificate of the brokers is signed by nobody who is trusted: keep the signer's certificate as a secret, and add its name with (TLS on, CA 'name')"
	case errors.As(err, &host):
		text = "the certificate of the brokers is for another name: " + host.Error()
	case errors.As(err, &invalid):
		text = "the certificate of the brokers is not valid: " + invalid.Error()
	case errors.As(err, &record):
		text = "what answers does not speak TLS; leave (TLS on) out"
	case errors.Is(err, kerr.SaslAuthenticationFailed), errors.Is(err, kerr.IllegalSaslState):
		text = fmt.Sprintf("the brokers do not let the user %s in with this secret", a.user)
	case errors.Is(err, kerr.UnsupportedSaslMechanism):
		text = "the brokers do not take this login; set another one with (LOGIN plain), scram256 or scram512"
	case errors.Is(err, kerr.TopicAuthorizationFailed):
		text = fmt.Sprintf("the user %s may not do that with the topic; whoever runs the brokers can allow it", orNobody(a.user))
	case errors.Is(err, kerr.GroupAuthorizationFailed):
		text = fmt.Sprintf("the user %s may not use the group; whoever runs the brokers can allow it", orNobody(a.user))
	case errors.Is(err, kerr.TransactionalIDAuthorizationFailed):
		text = fmt.Sprintf("the user %s may not write in transactions with ids that begin with %q; whoever runs the brokers can allow it, or write (REPEATS possible)", orNobody(a.user), writerPrefix)
	case errors.Is(err, kerr.ClusterAuthorizationFailed):
		text = fmt.Sprintf("the brokers do not allow that to the user %s", orNobody(a.user))
	case errors.Is(err, kerr.UnknownTopicOrPartition):
		text = "there is no such topic or partition any more"
	case errors.Is(err, kerr.MessageTooLarge), errors.Is(err, kerr.RecordListTooLarge):
		text = "a message is larger than the topic takes (its max.message.bytes)"
	case errors.Is(err, kerr.ProducerFenced), errors.Is(err, kerr.InvalidProducerEpoch):
		text = "another process writes as this job: it has been locked out"
	case errors.Is(err, syscall.ECONNREFUSED):
		text = "nobody listens there"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		text = "no answer came in time"
		if e.Options.Word("tls", "off") != "off" {
			text += "; where the brokers do not speak TLS, leave (TLS on) out"
		}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		text = "the connection was closed; where the brokers want TLS, write (TLS on), where they want a login, a user and a SECRET"
		if a.user != "" {
			text = fmt.Sprintf("the connection was closed, as by brokers that do not let the user %s in with this secret; where they want TLS, write (TLS on)", a.user)
		}
	default:
		text = err.Error()
	}
	return &wrapped{fmt.Sprintf("endpoint %s, brokers at %s: %s", e.Name, e.Address, text), err}
}

func orNobody(user string) string {
	if user == "" {
		return "that nobody is"
	}
	return user
}

// passing says whether an error may pass by itself: the brokers are away, or busy, or have not said what they did.
func passing(err error) bool {
	var network net.Error
	switch {
	case kerr.IsRetriable(err), errors.Is(err, kerr.UnknownTopicOrPartition), errors.Is(err, errBatch), errors.Is(err, errNotThere):
		return true
	case errors.Is(err, kgo.ErrRecordTimeout), errors.Is(err, kgo.ErrRecordRetries), errors.Is(err, kgo.ErrClientClosed), errors.Is(err, kgo.ErrAborting):
		return true
	case errors.Is(err, kerr.OperationNotAttempted), errors.Is(err, kerr.TransactionAbortable), errors.Is(err, kerr.UnknownServerError),
		errors.Is(err, kerr.ProducerFenced), errors.Is(err, kerr.InvalidProducerEpoch), errors.Is(err, kerr.OutOfOrderSequenceNumber): // a transaction that took too long, or lost its way; the next session tells
		return true
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return true
	case errors.As(err, &network), errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return true
	}
	return false
}
