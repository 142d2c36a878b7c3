// Package batches finds the messages in pieces that are batches of the brokers' open format, as the built-in log and external brokers keep them.
package batches

import (
	"fiume/internal/core/flow"
	"fiume/internal/topiclog"
)

// Frame finds the messages of a piece, those before its end, without copying them: keys and headers, where they are wanted, lie in its data.
func Frame(p *flow.Piece, keys, headers bool) error {
	p.Messages = p.Messages[:0]
	return topiclog.Views(p.Data, p.Base, func(v topiclog.View) {
		if v.Offset < p.Next {
			m := flow.Message{Off: uint32(v.From), Len: uint32(v.To - v.From), Pos: v.Offset, At: v.At}
			if keys && v.HasKey {
				m.Key = p.Data[v.KeyFrom:v.KeyTo:v.KeyTo]
			}
			if headers {
				m.Headers = p.Data[v.HeadFrom:v.HeadTo]
			}
			p.Messages = append(p.Messages, m)
		}
	})
}
