import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data } from "./queries";

export const useAuthorities = () =>
  useQuery({ queryKey: ["authorities"], queryFn: () => data(api.GET("/api/v1/authorities")) });

export const useAccounts = () => useQuery({ queryKey: ["accounts"], queryFn: () => data(api.GET("/api/v1/accounts")) });

/** useRegister asks for the register; null while no account is in use. */
export const useRegister = (on: boolean) =>
  useQuery({ queryKey: ["register"], enabled: on, queryFn: () => data(api.GET("/api/v1/register")) });

export const useIdentities = () =>
  useQuery({ queryKey: ["identities"], queryFn: () => data(api.GET("/api/v1/identities")) });

export const useSignInAccount = () =>
  useMutation({
    mutationFn: (authority: string) => data(api.POST("/api/v1/accounts", { body: { authority } })),
  });

export const useUseAccount = () =>
  useMutation({
    mutationFn: (account: string) =>
      data(api.PATCH("/api/v1/accounts/{account}", { params: { path: { account } }, body: { use: true } })),
    ...again("accounts", "register", "identities"),
  });

export const useSignOutAccount = () =>
  useMutation({
    mutationFn: (account: string) => data(api.DELETE("/api/v1/accounts/{account}", { params: { path: { account } } })),
    ...again("accounts", "register", "identities", "safe"),
  });

export const useRegisterDevices = () =>
  useMutation({
    mutationFn: (devices: string[]) => data(api.POST("/api/v1/register", { body: { devices } })),
    ...again("register", "accounts", "jobs"),
  });

export const useLeaveRegister = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/register/{id}", { params: { path: { id } } })),
    ...again("register", "accounts"),
  });

/** The app ids of the crew; asked for while an account is in use. */
export const useAppIDs = (on: boolean) =>
  useQuery({ queryKey: ["app-ids"], enabled: on, queryFn: () => data(api.GET("/api/v1/app-ids")) });

export const useTakeAppID = () =>
  useMutation({
    mutationFn: (id: string) => data(api.POST("/api/v1/app-ids", { body: { id } })),
    ...again("app-ids"),
  });

export const useMakeIdentity = () =>
  useMutation({
    mutationFn: (name: string) => data(api.POST("/api/v1/identities", { body: { name } })),
    ...again("identities", "safe"),
  });

export const useRenewIdentity = () =>
  useMutation({
    mutationFn: (id: string) => data(api.POST("/api/v1/identities/{id}/renew", { params: { path: { id } } })),
    ...again("identities"),
  });

/** useJob follows one job until it has ended. */
export const useJob = (id: string) =>
  useQuery({
    queryKey: ["jobs", id],
    enabled: id !== "",
    queryFn: () => data(api.GET("/api/v1/jobs/{id}", { params: { path: { id } } })),
  });
