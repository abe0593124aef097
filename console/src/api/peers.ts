import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data } from "./queries";
import type { Invitation, NewLoan, PeerChange } from "./types";

/** usePeers asks for the benches that this one knows. */
export const usePeers = () => useQuery({ queryKey: ["peers"], queryFn: () => data(api.GET("/api/v1/peers")) });

/** usePeering asks for the introductions of benches that go on. */
export const usePeering = () => useQuery({ queryKey: ["peering"], queryFn: () => data(api.GET("/api/v1/peering")) });

const lookAgain = 5000; // milliseconds: how a device of another bench stands is told without an event of this one

/** useFarDevices asks for the devices that peers show. */
export const useFarDevices = () =>
  useQuery({
    queryKey: ["far"],
    queryFn: () => data(api.GET("/api/v1/far-devices")),
    refetchInterval: lookAgain,
  });

/** useLoans asks what is lent and borrowed. */
export const useLoans = () => useQuery({ queryKey: ["loans"], queryFn: () => data(api.GET("/api/v1/loans")) });

export const useBorrow = () =>
  useMutation({
    mutationFn: (body: NewLoan) => data(api.POST("/api/v1/loans", { body })),
    ...again("loans", "far", "devices"),
  });

export const useExtendLoan = (loan: string) =>
  useMutation({
    mutationFn: (for_seconds: number) =>
      data(api.POST("/api/v1/loans/{loan}/extend", { params: { path: { loan } }, body: { for_seconds } })),
    ...again("loans", "far"),
  });

export const useEndLoan = (loan: string) =>
  useMutation({
    mutationFn: (grace_seconds: number) =>
      data(api.DELETE("/api/v1/loans/{loan}", { params: { path: { loan }, query: { grace_seconds } } })),
    ...again("loans", "far", "devices"),
  });

/** useReservations asks what is reserved for runs of commands. */
export const useReservations = () =>
  useQuery({ queryKey: ["reservations"], queryFn: () => data(api.GET("/api/v1/reservations")) });

export const useEndReservation = (reservation: string) =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/reservations/{reservation}", { params: { path: { reservation } } })),
    ...again("reservations", "devices"),
  });

export const useInvite = () =>
  useMutation({
    mutationFn: (may: "" | "look" | "use") =>
      data(api.POST("/api/v1/invitations", { body: { for_seconds: 24 * 3600, may } })),
  });

export const useAddPeer = () =>
  useMutation({
    mutationFn: (invitation: Invitation) => data(api.POST("/api/v1/peers", { body: { invitation } })),
    ...again("peers", "far"),
  });

export const useMeetPeer = () =>
  useMutation({
    mutationFn: (address: string) => data(api.POST("/api/v1/peering", { body: { address } })),
    ...again("peering"),
  });

export const useTypePeerWords = () =>
  useMutation({
    mutationFn: (words: string) => data(api.POST("/api/v1/peering/words", { body: { words } })),
    ...again("peering"),
  });

export const useStopPeering = () =>
  useMutation({ mutationFn: () => data(api.DELETE("/api/v1/peering")), ...again("peering") });

export const useAnswerPeer = (key: string) =>
  useMutation({
    mutationFn: (accept: boolean) => data(api.POST("/api/v1/peering/answer", { body: { key, accept } })),
    ...again("peering", "peers"),
  });

export const useSetPeer = (name: string) =>
  useMutation({
    mutationFn: (body: PeerChange) => data(api.PATCH("/api/v1/peers/{name}", { params: { path: { name } }, body })),
    ...again("peers"),
  });

export const useDropPeer = (name: string) =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/peers/{name}", { params: { path: { name } } })),
    ...again("peers", "far"),
  });

export const useCheckPeer = (name: string) =>
  useMutation({ mutationFn: () => data(api.GET("/api/v1/peers/{name}/check", { params: { path: { name } } })) });
