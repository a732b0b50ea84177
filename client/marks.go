package client

import (
	"context"
	"net/http"
)

// Marks lists the states of a lake that are kept under names, the newest first.
func (c *Client) Marks(ctx context.Context, warehouse string) ([]Mark, error) {
	return get[[]Mark](ctx, c, at("warehouses", warehouse, "marks"), nil)
}

// AddMark keeps what all tables of a lake hold now under a name.
func (c *Client) AddMark(ctx context.Context, warehouse string, n NewMark) error {
	return c.call(ctx, http.MethodPost, at("warehouses", warehouse, "marks"), nil, n, nil)
}

// RemoveMark lets what is kept under a name go.
func (c *Client) RemoveMark(ctx context.Context, warehouse, name string) error {
	return c.call(ctx, http.MethodDelete, at("warehouses", warehouse, "marks", name), nil, nil, nil)
}
