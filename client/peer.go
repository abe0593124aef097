package client

import (
	"context"
	"net/url"
	"strconv"
)

// Peers returns the benches that this one knows.
func (c *Client) Peers(ctx context.Context, s ...Select) ([]Peer, error) {
	return list[Peer](ctx, c, api+"/peers", nil, s)
}

// AddPeer has this bench become a peer of the one that invites.
func (c *Client) AddPeer(ctx context.Context, n NewPeer) (Peer, error) {
	return call[Peer](ctx, c, "POST", api+"/peers", n)
}

// SetPeer changes what a peer may do here, and where it is reached.
func (c *Client) SetPeer(ctx context.Context, name string, change PeerChange) (Peer, error) {
	return call[Peer](ctx, c, "PATCH", api+"/peers/"+url.PathEscape(name), change)
}

// DropPeer forgets a peer.
func (c *Client) DropPeer(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/peers/"+url.PathEscape(name), nil)
	return err
}

// CheckPeer looks at each layer between this bench and a peer.
func (c *Client) CheckPeer(ctx context.Context, name string) (PeerCheck, error) {
	return call[PeerCheck](ctx, c, "GET", api+"/peers/"+url.PathEscape(name)+"/check", nil)
}

// Invite makes an invitation.
func (c *Client) Invite(ctx context.Context, n NewInvitation) (Invitation, error) {
	return call[Invitation](ctx, c, "POST", api+"/invitations", n)
}

// Peering returns the introductions of benches that go on.
func (c *Client) Peering(ctx context.Context) (Peering, error) {
	return call[Peering](ctx, c, "GET", api+"/peering", nil)
}

// MeetPeer begins an introduction to the bench at an address.
func (c *Client) MeetPeer(ctx context.Context, n NewMeeting) (Peering, error) {
	return call[Peering](ctx, c, "POST", api+"/peering", n)
}

// TypePeerWords takes the three words that the other bench shows.
func (c *Client) TypePeerWords(ctx context.Context, words string) (Peering, error) {
	return call[Peering](ctx, c, "POST", api+"/peering/words", map[string]string{"words": words})
}

// StopPeering gives the introduction to another bench up.
func (c *Client) StopPeering(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/peering", nil)
	return err
}

// AnswerPeer answers a bench that wants to become a peer.
func (c *Client) AnswerPeer(ctx context.Context, a PeerAnswer) (Peering, error) {
	return call[Peering](ctx, c, "POST", api+"/peering/answer", a)
}

// FarDevices returns the devices that peers show.
func (c *Client) FarDevices(ctx context.Context, s ...Select) ([]FarDevice, error) {
	return list[FarDevice](ctx, c, api+"/far-devices", nil, s)
}

// Loans returns what is lent and borrowed: first what is not over.
func (c *Client) Loans(ctx context.Context, s ...Select) ([]Loan, error) {
	return list[Loan](ctx, c, api+"/loans", nil, s)
}

// Borrow asks a peer for a device.
func (c *Client) Borrow(ctx context.Context, n NewLoan) (Loan, error) {
	return call[Loan](ctx, c, "POST", api+"/loans", n)
}

// ExtendLoan asks for a loan to last a number of seconds from now.
func (c *Client) ExtendLoan(ctx context.Context, loan string, seconds int64) (Loan, error) {
	return call[Loan](ctx, c, "POST", api+"/loans/"+url.PathEscape(loan)+"/extend", map[string]int64{"for_seconds": seconds})
}

// EndLoan returns a borrowed device, or takes a lent one back after some seconds of grace.
func (c *Client) EndLoan(ctx context.Context, loan string, grace int64) (Loan, error) {
	return call[Loan](ctx, c, "DELETE", api+"/loans/"+url.PathEscape(loan)+"?grace_seconds="+strconv.FormatInt(grace, 10), nil)
}

// HandsRequests lists the requests to people near lent devices.
func (c *Client) HandsRequests(ctx context.Context, sel ...Select) ([]Hands, error) {
	return list[Hands](ctx, c, api+"/hands", nil, sel)
}

// AskForHands asks somebody near a borrowed device to do something.
func (c *Client) AskForHands(ctx context.Context, device string, n NewHands) (Hands, error) {
	return call[Hands](ctx, c, "POST", api+"/loans/"+url.PathEscape(device)+"/hands", n)
}

// AnswerHands says that what was asked is done, or cannot be done.
func (c *Client) AnswerHands(ctx context.Context, id string, a HandsAnswer) (Hands, error) {
	return call[Hands](ctx, c, "POST", api+"/hands/"+url.PathEscape(id)+"/answer", a)
}

// WithdrawHands withdraws a request for hands.
func (c *Client) WithdrawHands(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/hands/"+url.PathEscape(id), nil)
	return err
}
