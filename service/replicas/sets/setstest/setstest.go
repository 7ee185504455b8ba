// Package setstest has made-up replica sets for tests.
package setstest

import "bridgespan/model"

// Beds is a set of three replicas, of which the first is the seed; its lanes are not laid yet.
func Beds(layout string) model.ReplicaSet {
	return model.ReplicaSet{Name: "beds", Layout: layout, Calendar: "full", AtticDays: 60, Retry: model.UsualRetry,
		Replicas: []model.Replica{{ID: 1, Name: "oak", Server: "oak", Share: "store", Seed: true}, {ID: 2, Name: "elm", Server: "elm", Share: "store"}, {ID: 3, Name: "ash", Server: "ash", Share: "store", Sub: "copy"}}}
}
