package httpapi

import (
	"context"

	"parallelpane/internal/api"
	"parallelpane/internal/notify"
	"parallelpane/internal/service"
)

// Inputs of operations on who hears of what.
type (
	subscribeIn    struct{ api.SubscriptionRequest }
	subscriptionIn struct {
		Subscription string `path:"subscription" json:"-" description:"its id"`
	}
	pauseIn struct {
		subscriptionIn
		Paused bool `json:"paused"`
	}
	deliveryIn struct {
		Delivery string `path:"delivery" json:"-" description:"its id"`
	}
)

func (in *subscribeIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *subscribeIn) missing() error {
	return api.Errorf(api.NotFound, "there is no project %.80q", in.Project)
}

func (in *subscriptionIn) project(ctx context.Context, s *service.Service) (string, error) {
	return s.Office.SubscriptionProject(ctx, in.Subscription)
}

func (in *subscriptionIn) missing() error { return notify.NoSubscription(in.Subscription) }

func (in *deliveryIn) project(ctx context.Context, s *service.Service) (string, error) {
	d, err := s.Office.Delivery(ctx, in.Delivery)
	return d.Project, err
}

func (in *deliveryIn) missing() error { return notify.NoDelivery(in.Delivery) }

func (a *server) notifyRoutes() {
	s := a.service
	add(a, "GET", "/subscriptions", inAny(api.Runner), "List who hears of what",
		func(ctx context.Context, who api.Who, in *api.SubscriptionFilter) ([]api.Subscription, error) {
			in.Among = who.Projects()
			return s.Office.Subscriptions(ctx, *in)
		})
	add(a, "POST", "/subscriptions", within(api.Keeper).as("notify add"),
		"Have somebody hear of something, by mail or at an address of the web",
		func(ctx context.Context, who api.Who, in *subscribeIn) (api.NewSubscription, error) {
			made, err := s.Office.Subscribe(who, in.SubscriptionRequest)
			deedIn(ctx).on(made.Kind + " " + made.Target)
			return made, err
		})
	add(a, "POST", "/subscriptions/{subscription}/pause", within(api.Keeper).as("notify pause"),
		"Have a subscription say nothing, or speak again",
		func(ctx context.Context, _ api.Who, in *pauseIn) (api.Subscription, error) {
			return s.Office.Pause(ctx, in.Subscription, in.Paused)
		})
	add(a, "POST", "/subscriptions/{subscription}/try", within(api.Keeper).as("notify try"),
		"Send a message about its newest run to a subscription now",
		func(ctx context.Context, _ api.Who, in *subscriptionIn) (api.Delivery, error) {
			return s.Office.TryOut(ctx, in.Subscription)
		})
	add(a, "DELETE", "/subscriptions/{subscription}", within(api.Keeper).as("notify drop"),
		"Forget a subscription, and what it was still to be sent",
		func(ctx context.Context, _ api.Who, in *subscriptionIn) (none, error) {
			return none{}, s.Office.Unsubscribe(ctx, in.Subscription)
		})
	add(a, "GET", "/deliveries", inAny(api.Runner), "List what was sent, and what is to be, the newest first",
		func(ctx context.Context, who api.Who, in *api.DeliveryFilter) ([]api.Delivery, error) {
			in.Among = who.Projects()
			return s.Office.Deliveries(ctx, *in)
		})
	add(a, "POST", "/deliveries/{delivery}/again", within(api.Keeper).as("notify again"), "Send something again that was sent, or given up",
		func(ctx context.Context, _ api.Who, in *deliveryIn) (api.Delivery, error) {
			return s.Office.Redeliver(ctx, in.Delivery)
		})
}
