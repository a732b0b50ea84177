package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
	"noemata/internal/store"
)

// describeUsers adds the calls of people who sign in by name.
func (s *Service) describeUsers(api calls) {
	const group = "sign-in"
	handle(api, operation{"list-ways", http.MethodGet, "/sign-in-ways", "How the console can be signed in to", group, 0},
		s.ways)
	handle(api, operation{"list-users", http.MethodGet, "/users", "List the people who sign in by name", group, 0},
		s.users)
	handle(api, operation{"add-user", http.MethodPost, "/users", "Make a person who signs in by name and password", group,
		http.StatusCreated},
		s.addUser)
	handle(api, operation{"change-user", http.MethodPut, "/users/{name}",
		"Change what a person may do, or the password: sign-ins with the one before end", group, 0}, s.changeUser)
	handle(api, operation{"remove-user", http.MethodDelete, "/users/{name}", "Remove a person; sign-ins end with it",
		group, 0}, s.removeUser)
}

func (s *Service) ways(ctx context.Context, _ *none) (*answer[client.Ways], error) {
	some, err := s.store.HasPasswords(ctx)
	w := client.Ways{Passwords: some}
	if s.provider != nil {
		w.Provider = s.provider.Name
	}
	return reply(w, err)
}

func (s *Service) users(ctx context.Context, _ *none) (*answer[[]client.User], error) {
	return reply(s.store.Users(ctx))
}

type newUser struct{ Body client.NewUser }

func (s *Service) addUser(ctx context.Context, in *newUser) (*answer[client.User], error) {
	return reply(s.store.AddUser(ctx, in.Body))
}

type changedUser struct {
	Name string `path:"name" doc:"Whom"`
	Body client.NewUser
}

func (s *Service) changeUser(ctx context.Context, in *changedUser) (*answer[client.User], error) {
	in.Body.Name = in.Name
	return reply(s.store.ChangeUser(ctx, in.Body))
}

func (s *Service) removeUser(ctx context.Context, in *named) (*none, error) {
	return nil, s.store.RemoveUser(ctx, in.Name)
}

// signInBy signs a person in by name and password.
func (s *Service) signInBy(ctx context.Context, in *signInRequest) (*sessionAnswer, error) {
	cookie, ok, err := s.store.SignInBy(ctx, in.Body.User, in.Body.Password, in.address)
	switch {
	case err != nil:
		return nil, err
	case !ok:
		return nil, unauthorized("Name and password do not belong together.",
			"Write both anew; an administrator sets another password.")
	}
	out := &sessionAnswer{SetCookie: sessionCookie(in.secure, cookie, int(store.SessionLength.Seconds()))}
	out.Body.Name = in.Body.User
	return out, nil
}
