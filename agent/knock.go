package agent

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net/http"
	"time"

	"diorthos/client"
)

// Knock has a machine let in that was started from a stick: it shows a code, and waits until somebody far away has
// typed it. A code is good for some minutes; then another one is shown. What is kept is good until the service ends it.
func (a *Agent) Knock(
	ctx context.Context, url, tells string, show func(code string, expires time.Time), waiting func(error),
) (machine string, err error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	service := a.reach(url)
	code := &client.KnockCode{}
	for pause := firstPause; ; {
		done, err := a.admitted(ctx, service, code, private, func() (*client.KnockCode, error) {
			code, err := service.Knock(ctx, client.Knock{Public: public, Tells: tells, Hardware: a.hardware()})
			if err == nil {
				show(code.Code, code.Expires)
			}
			return code, err
		})
		switch {
		case err == nil && done != nil:
			fresh := &kept{
				URL: url, Agent: done.Agent, Machine: done.Machine, Site: done.Site, Key: private, Service: done.Service,
				Done: map[int64]client.OrderReport{}, Journals: map[string]string{},
			}
			if old := a.keep; old != nil && old.Machine == done.Machine { // it was let in before
				fresh.Done, fresh.Journals, fresh.Untold = old.Done, old.Journals, old.Untold
			}
			a.keep = fresh
			return done.Machine, a.save()
		case err == nil:
			pause = firstPause
			continue
		case ctx.Err() != nil:
			return "", ctx.Err()
		case !away(err): // it is refused, and would be again
			return "", err
		}
		waiting(err)
		sleep(ctx, pause)
		pause = min(2*pause, longestPause/5)
	}
}

// admitted asks whether somebody let the machine in; before it has a code, or when that is over, it gets one.
func (a *Agent) admitted(
	ctx context.Context, service *client.Client, code *client.KnockCode, key ed25519.PrivateKey,
	knock func() (*client.KnockCode, error),
) (*client.Enrolled, error) {
	if code.Code == "" {
		fresh, err := knock()
		if err == nil {
			*code = *fresh
		}
		return nil, err
	}
	now, public := time.Now(), key.Public()
	asked := client.KnockAsked{Time: now, Signature: ed25519.Sign(key, client.KnockText(now))}
	asked.Public, _ = public.(ed25519.PublicKey)
	done, err := service.Admitted(ctx, asked)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == http.StatusGone {
		*code = client.KnockCode{}
		return nil, nil
	}
	if err == nil && done == nil {
		sleep(ctx, time.Second)
	}
	return done, err
}
