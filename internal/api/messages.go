package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"unicode/utf8"

	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// MessageRequest is a message to write: its value as text, or as bytes where it is no text.
type MessageRequest struct {
	Key   *string `json:"key,omitempty"`
	Value string  `json:"value"`
	Bytes []byte  `json:"bytes,omitempty" doc:"in base64, in place of value, where the message is no UTF-8"`
}

// MessageBatch is a list of messages.
type MessageBatch []MessageRequest

// mostMessages bounds the messages of one call.
const mostMessages = 200_000

// UnmarshalJSON implements json.Unmarshaler. It reads message by message, so that a wrong one ends it, and refuses bytes that are no UTF-8,
// which a decoder would change.
func (b *MessageBatch) UnmarshalJSON(data []byte) error {
	if !utf8.Valid(data) {
		at := 0
		for at < len(data) {
			r, n := utf8.DecodeRune(data[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return fmt.Errorf("byte %d of the body is no UTF-8; give a message that is no text as bytes, in base64", at)
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return errors.New("expected a list of messages")
	}
	*b = (*b)[:0]
	for d.More() {
		if len(*b) == mostMessages {
			return fmt.Errorf("there are more than %d messages; write them in several calls", mostMessages)
		}
		var m struct {
			Key   *string `json:"key"`
			Value *string `json:"value"`
			Bytes []byte  `json:"bytes"`
		}
		if err := d.Decode(&m); err != nil {
			return fmt.Errorf("message %d cannot be read: it takes key, value and bytes", len(*b))
		}
		if m.Value == nil && m.Bytes == nil || m.Bytes != nil && m.Value != nil && *m.Value != "" {
			return fmt.Errorf("message %d: expected value, or bytes", len(*b))
		}
		x := MessageRequest{Key: m.Key, Bytes: m.Bytes}
		if m.Value != nil {
			x.Value = *m.Value
		}
		*b = append(*b, x)
	}
	return nil
}

// records are what is appended to the topic.
func (b MessageBatch) records() []topiclog.Record {
	recs := make([]topiclog.Record, len(b))
	for i, m := range b {
		if recs[i].Value = m.Bytes; m.Bytes == nil {
			recs[i].Value = []byte(m.Value)
		}
		if m.Key != nil {
			recs[i].Key = []byte(*m.Key)
		}
	}
	return recs
}

// MessagePage is a part of the messages of a topic.
type MessagePage struct {
	Items []topics.Message `json:"items"`
	Next  string           `json:"next,omitempty" doc:"of one partition, where there may be more: pass it as from"`
	Cut   bool             `json:"cut,omitempty" doc:"the messages are large: not all that were asked for are in the answer"`
}
